// juniper: the command line of Juniper Ridge. Each command parses its arguments, calls one function of the library and
// prints what it gives.
#include <fmt/format.h>
#include <malloc.h>
#include <sys/ioctl.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>
#include <charconv>
#include <cstdlib>
#include <fstream>
#include <memory>
#include <new>
#include <string>
#include <string_view>
#include <thread>
#include <vector>

#include "commands.h"
#include "completion.h"
#include "console.h"
#include "help.h"
#include "juniper.h"
#include "juniper/signals.h"
#include "parse.h"

namespace {

using namespace juniper;
using namespace juniper::tool;

bool colored(When when, int descriptor) {
  if (when != When::automatic) return when == When::always;
  return ::isatty(descriptor) != 0 && std::getenv("NO_COLOR") == nullptr;
}

// How wide lines on an output may be; 0: as they are, as where it is a file. (ioctl_tty(2): TIOCGWINSZ)
std::size_t width_of(const Common& common, int descriptor) {
  if (common.wide) return 0;
  if (common.width != 0) return common.width;
  if (::isatty(descriptor) == 0) return 0;
  constexpr std::size_t narrowest = 40;
  winsize window{};
  std::size_t width = ::ioctl(descriptor, TIOCGWINSZ, &window) == 0 ? window.ws_col : 0;
  if (const char* const columns = std::getenv("COLUMNS"); columns != nullptr) {
    const std::string_view text = columns;
    std::size_t wanted = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), wanted);
    if (error == std::errc() && end == text.data() + text.size() && wanted != 0) width = wanted;
  }
  return width == 0 ? 0 : std::max(width, narrowest);
}

// Columns are large arrays that come and go: memory that is freed serves the next one, instead of going back to the
// system, which would have to clear it again page by page. The first of it comes in large pages where the system has
// them: a million groups take thousands of small ones, which cost a short command more than its work.
constexpr std::size_t kept_bytes = std::size_t{64} << 20;

void keep_memory() {
  mallopt(M_MMAP_THRESHOLD, 1 << 30);
  mallopt(M_TRIM_THRESHOLD, 1 << 30);
  constexpr std::size_t page = std::size_t{2} << 20;
  void* const all = std::malloc(kept_bytes);
  void* first = all;
  std::size_t room = kept_bytes;
  if (std::align(page, page, first, room) != nullptr) madvise(first, room, MADV_HUGEPAGE);  // no more than a wish
  std::free(all);
}

// Whatever the command does, a load or a result that is printed, the process takes no more than it was allowed on top
// of what it has, and the stacks of its threads: behind that, memory is refused as where there is none. (setrlimit(2):
// RLIMIT_DATA counts what is allocated, and not the files that are mapped.)
void limit_memory(const Options& options) {
  std::uint64_t pages = 0;
  std::uint64_t ignored = 0;
  std::ifstream file("/proc/self/statm");  // proc(5): the sixth number is the size of data and stack
  for (int i = 0; i < 5; ++i) file >> ignored;
  if (!(file >> pages)) return;
  constexpr std::uint64_t for_each_thread = std::uint64_t{9} << 20;
  const std::uint64_t threads = options.threads != 0 ? options.threads : std::thread::hardware_concurrency();
  rlimit limit{};
  if (::getrlimit(RLIMIT_DATA, &limit) != 0) return;
  // What is kept is there to be used.
  const std::uint64_t more = options.memory - std::min<std::uint64_t>(options.memory, kept_bytes);
  const rlim_t wanted = pages * static_cast<std::uint64_t>(::sysconf(_SC_PAGESIZE)) + more + threads * for_each_thread;
  limit.rlim_cur = std::min(limit.rlim_max, wanted);
  ::setrlimit(RLIMIT_DATA, &limit);
}

int run(const Command& command, Context& context) {
  try {
    return context.console.finish(command.run(context));
  } catch (const std::bad_alloc&) {
    // What a library function can't compute it tells itself; this is for what is printed.
    Diagnostic diagnostic;
    diagnostic.code = "JR-005";
    diagnostic.message = "no memory is left to print this";
    diagnostic.suggestion = "ask for less at once, or allow more by --memory where it was limited";
    return context.console.fail({diagnostic});
  }
}

}  // namespace

int main(int count, char** arguments) {
  keep_memory();
  end_on_signals();
  const std::vector<std::string> words(arguments + std::min(count, 1), arguments + count);
  Common common;
  const CommandLine line = command_line(common);
  if (!words.empty() && words[0] == "complete") {
    fmt::print("{}", to_text(complete(line, {words.begin() + 1, words.end()})));
    return 0;
  }
  const Parsed parsed = parse(line, words);
  RenderOptions rendering;
  rendering.format = common.format;
  rendering.color = colored(common.color, STDOUT_FILENO) ? Color::on : Color::off;
  rendering.footer = !common.quiet;
  rendering.part = common.part;
  rendering.title = "juniper";
  for (const std::string& word : words) rendering.title += " " + word;
  rendering.width = width_of(common, STDOUT_FILENO);
  Console console(rendering, common.quiet,
                  {colored(common.color, STDERR_FILENO) ? Color::on : Color::off, width_of(common, STDERR_FILENO)});
  if (parsed.problem) return console.wrong_usage(*parsed.problem);
  if (!common.part.empty() && common.format != Format::csv && common.format != Format::markdown)
    return console.wrong_usage("--part chooses what --format csv or markdown holds: give both");
  if (common.wants_version) {
    fmt::print("juniper {}\n", JUNIPER_VERSION);
    return 0;
  }
  const Command* about = common.wants_help ? parsed.command : nullptr;
  if (!common.help.empty()) {
    about = line.find(common.help);
    if (about == nullptr) return console.wrong_usage(fmt::format("there is no command '{}'", common.help));
  }
  if (common.wants_help || parsed.command->name == "help") {
    console.print(about != nullptr ? help(line, *about, rendering.width) : help(line, rendering.width));
    return console.finish(0);
  }
  common.options.cancelled = called_off();
  common.options.reading.disable_wrong = true;
  common.options.progress = [&console](const Progress& progress) { console.progress(progress); };
  Context context{common.options, console};
  if (common.options.memory != 0) limit_memory(common.options);
  return run(*parsed.command, context);
}
