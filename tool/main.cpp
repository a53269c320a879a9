// juniper: the command line of Juniper Ridge. Each command parses its arguments, calls one function of the library and
// prints what it gives.
#include <fmt/format.h>
#include <malloc.h>
#include <sys/mman.h>
#include <unistd.h>

#include <cstdlib>
#include <memory>
#include <string>
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

// Columns are large arrays that come and go: memory that is freed serves the next one, instead of going back to the
// system, which would have to clear it again page by page. The first of it comes in large pages where the system has
// them: a million groups take thousands of small ones, which cost a short command more than its work.
void keep_memory() {
  mallopt(M_MMAP_THRESHOLD, 1 << 30);
  mallopt(M_TRIM_THRESHOLD, 1 << 30);
  constexpr std::size_t bytes = std::size_t{64} << 20;
  constexpr std::size_t page = std::size_t{2} << 20;
  void* const all = std::malloc(bytes);
  void* first = all;
  std::size_t room = bytes;
  if (std::align(page, page, first, room) != nullptr) madvise(first, room, MADV_HUGEPAGE);  // no more than a wish
  std::free(all);
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
  Console console({common.format, colored(common.color, STDOUT_FILENO) ? Color::on : Color::off}, common.quiet,
                  colored(common.color, STDERR_FILENO));
  if (parsed.problem) return console.wrong_usage(*parsed.problem);
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
    console.print(about != nullptr ? help(line, *about) : help(line));
    return console.finish(0);
  }
  common.options.cancelled = called_off();
  common.options.progress = [&console](const Progress& progress) { console.progress(progress); };
  Context context{common.options, console};
  return console.finish(parsed.command->run(context));
}
