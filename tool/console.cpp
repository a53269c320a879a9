#include "console.h"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <string_view>

namespace juniper::tool {

int exit_status(const Diagnostics& errors) {
  // Codes that speak of the command itself, and of a change or check that did not pass; all others of what was read.
  static constexpr std::array<std::string_view, 7> usage{"JR-004", "JR-008", "JR-215", "JR-702",
                                                         "JR-801", "JR-802", "JR-902"};
  static constexpr std::array<std::string_view, 4> refused{"JR-803", "JR-804", "JR-805", "JR-910"};
  const Diagnostic& first = errors.front();
  if (std::find(refused.begin(), refused.end(), first.code) != refused.end()) return 1;
  const bool typed = first.place.file == "<query>" || first.place.file == "<where>" || first.place.file == "<draft>" ||
                     first.place.file == "<plan>" || (first.code == "JR-213" && first.place.file.empty());
  return typed || std::find(usage.begin(), usage.end(), first.code) != usage.end() ? 2 : 3;
}

void Console::write(std::string_view text) {
  if (output_error_ == 0 && std::fwrite(text.data(), 1, text.size(), stdout) != text.size()) output_error_ = errno;
}
void Console::print(const std::string& text) {
  if (render_.width != 0) return write(folded_code(text, render_.width));
  write(::isatty(STDOUT_FILENO) != 0 ? visible(text) : text);
}
void Console::print_text(const std::string& name, const std::string& text) {
  if (render_.format == Format::terminal) return print(text);
  print(Report{{Verbatim{name, text}}});
}
void Console::write_rendered(std::string_view text) {
  // For the terminal it is rendered so that it is safe to show, and has colours of its own.
  if (render_.format == Format::terminal || ::isatty(STDOUT_FILENO) == 0) {
    write(text);
  } else {
    write(visible(text));
  }
}
bool Console::has_part(const std::vector<std::string>& names) {
  if (render_.part.empty() || std::find(names.begin(), names.end(), render_.part) != names.end()) return true;
  missing_part_ =
      fmt::format("there is no part '{}' in this report; its parts are {}", render_.part, fmt::join(names, ", "));
  return false;
}
void Console::print(const Report& report) {
  if (has_part(part_names(report))) render(report, render_, [this](std::string_view part) { write_rendered(part); });
}
void Console::print(const QueryResult& result) {
  if (has_part({"rows"})) render(result, render_, [this](std::string_view part) { write_rendered(part); });
}

void Console::print_written(const std::string& path) {
  std::error_code none;
  if (quiet_ || !std::filesystem::is_regular_file(path, none)) return;
  print(report(WrittenFile{path, std::filesystem::file_size(path, none)}));
}

int Console::finish(int status) {
  if (std::fflush(stdout) != 0 && output_error_ == 0) output_error_ = errno;
  if (output_error_ == 0 && !missing_part_.empty()) return wrong_usage(missing_part_);
  if (output_error_ == 0) return status;
  Diagnostic diagnostic;
  diagnostic.code = "JR-012";
  diagnostic.message = fmt::format("the output could not be written: {}", std::strerror(output_error_));
  diagnostic.suggestion = "what was printed is not whole; free some space, or print to another place";
  return fail({diagnostic});
}

int Console::fail(const Diagnostics& errors) const {
  std::fflush(stdout);
  const std::string text = juniper::render(errors, messages_.color, messages_.width);
  std::fwrite(text.data(), 1, text.size(), stderr);
  return exit_status(errors);
}

int Console::wrong_usage(const std::string& problem) const {
  std::fflush(stdout);
  const char* const error = messages_.color == Color::on ? "\033[1;31merror:\033[0m" : "error:";
  fmt::print(stderr, "{} {}\n", error, visible(problem));
  return 2;
}

void Console::warn(const Diagnostics& warnings) const {
  const std::string text = juniper::render(warnings, messages_.color, messages_.width);
  std::fwrite(text.data(), 1, text.size(), stderr);
}

void Console::progress(const Progress& progress) {
  if (quiet_ || ::isatty(STDERR_FILENO) == 0) return;
  const auto now = std::chrono::steady_clock::now();
  if (progress.step == last_step_ && now - last_ < std::chrono::milliseconds(100)) return;
  if (progress.step != last_step_) step_began_ = now;
  last_ = now;
  last_step_ = progress.step;
  std::string line = progress.step;
  if (progress.rows != 0) line += fmt::format(" · {:.1f} M rows", static_cast<double>(progress.rows) / 1e6);
  const double seconds = std::chrono::duration<double>(now - step_began_).count();
  if (progress.total != 0 && progress.done != 0 && seconds > 0.2) {
    const double done = static_cast<double>(progress.done);
    const double left = seconds * (static_cast<double>(progress.total) / done - 1);
    line += fmt::format(" · {:.0f}%", 100 * done / static_cast<double>(progress.total));
    if (progress.item.empty() && !progress.counts_rows) line += fmt::format(" · {:.0f} MB/s", done / seconds / 1e6);
    line += fmt::format(" · {:.0f} s left", std::max(left, 0.0));
  }
  if (!progress.item.empty()) line += fmt::format(" · {} of {}, {}", progress.done + 1, progress.total, progress.item);
  // A line that wraps could not be drawn over.
  constexpr std::size_t least = 20;
  line = visible(line);
  fmt::print(stderr, "\r\033[K{}", messages_.width > least ? clipped(line, messages_.width - 1) : line);
  std::fflush(stderr);
  drawn_ = true;
}

void Console::clear_progress() {
  if (!drawn_) return;
  fmt::print(stderr, "\r\033[K");
  std::fflush(stderr);
  drawn_ = false;
}

}  // namespace juniper::tool
