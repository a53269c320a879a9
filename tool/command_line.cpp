#include "command_line.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>

namespace juniper::tool {

const Option* Command::find(const std::string& option) const {
  const auto found = std::find_if(options.begin(), options.end(), [&](const Option& o) { return o.name == option; });
  return found != options.end() ? &*found : nullptr;
}

std::vector<const Option*> Command::arguments() const {
  std::vector<const Option*> all;
  for (const Option& option : options) {
    if (option.is_argument()) all.push_back(&option);
  }
  return all;
}

const Command* CommandLine::find(const std::string& command) const {
  const auto found =
      std::find_if(commands.begin(), commands.end(), [&](const Command& c) { return c.name == command; });
  return found != commands.end() ? &*found : nullptr;
}

Option flag(std::string name, std::string help, bool& on) {
  return {std::move(name), "", std::move(help), [&on](const std::vector<std::string>&) -> Problem {
            on = true;
            return std::nullopt;
          }};
}

Option text(std::string name, std::string value, std::string help, std::string& kept, Names names) {
  Option option(std::move(name), std::move(value), std::move(help),
                [&kept](const std::vector<std::string>& values) -> Problem {
                  kept = values.front();
                  return std::nullopt;
                });
  option.names = names;
  return option;
}

Option texts(std::string name, std::string value, std::string help, std::vector<std::string>& kept, Times times,
             Names names) {
  Option option(std::move(name), std::move(value), std::move(help),
                [&kept](const std::vector<std::string>& values) -> Problem {
                  kept = values;
                  return std::nullopt;
                });
  option.names = names;
  option.times = times;
  return option;
}

Option argument(std::string name, std::string help, std::string& kept, Names names) {
  Option option = text(std::move(name), "", std::move(help), kept, names);
  option.is_required = true;
  return option;
}

Option arguments(std::string name, std::string help, std::vector<std::string>& kept, Names names) {
  Option option = texts(std::move(name), "", std::move(help), kept, Times::list, names);
  option.is_required = true;
  return option;
}

Option model_argument(std::string& kept) {
  return argument("MODEL", "A .ridge text, or the .jrs store made from it", kept, Names::file);
}

Option optional(Option option) {
  option.is_required = false;
  return option;
}

std::string not_in_range(const std::string& text, const char* kind, const std::string& least, const std::string& most) {
  return fmt::format("'{}' is not {} from {} to {}", text, kind, least, most);
}

std::string number_text(double number) {
  return fmt::format("{}", number);
}

std::optional<std::uint64_t> bytes_of(const std::string& text) {
  static const std::map<std::string, std::uint64_t> units{
      {"", 1},
      {"b", 1},
      {"kb", 1'000},
      {"mb", 1'000'000},
      {"gb", 1'000'000'000},
      {"tb", 1'000'000'000'000},
      {"kib", std::uint64_t{1} << 10},
      {"mib", std::uint64_t{1} << 20},
      {"gib", std::uint64_t{1} << 30},
      {"tib", std::uint64_t{1} << 40},
  };
  std::uint64_t number = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), number);
  if (error != std::errc()) return std::nullopt;
  std::string unit(end, text.data() + text.size());
  std::transform(unit.begin(), unit.end(), unit.begin(), [](unsigned char c) { return std::tolower(c); });
  unit.erase(0, unit.find_first_not_of(' '));
  const auto known = units.find(unit);
  std::uint64_t bytes = 0;
  if (known == units.end() || __builtin_mul_overflow(number, known->second, &bytes)) return std::nullopt;
  return bytes;
}

Option bytes(std::string name, std::string help, std::uint64_t& kept) {
  const auto take = [&kept](const std::vector<std::string>& values) -> Problem {
    const auto read = bytes_of(values.front());
    if (!read)
      return fmt::format("'{}' is not an amount of memory: write a number and B, kB, MB or GB, as in 500MB",
                         values.front());
    kept = *read;
    return std::nullopt;
  };
  return {std::move(name), "BYTES", std::move(help), take};
}

}  // namespace juniper::tool
