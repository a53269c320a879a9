// What goes wrong, and where: the values that every function of the library returns instead of throwing.
//
// No exception crosses the public interface. A function that can fail returns Result<T>: its value, or every
// problem it found. All types here are plain values; they may be copied and read from any thread.
#pragma once

#include <cstdint>
#include <string>
#include <tl/expected.hpp>
#include <vector>

// What the public headers declare is all that the shared library shows (the attribute on the namespace).
namespace [[gnu::visibility("default")]] juniper {

// A place in a text file. Lines and columns count from 1, columns in UTF-8 code points; 0 means "not known".
struct Place {
  std::string file;
  std::uint32_t line = 0;
  std::uint32_t column = 0;

  bool operator==(const Place&) const = default;
};

enum class Severity : std::uint8_t { error, warning };

// One problem. `code` is stable and listed in docs/errors.md.
struct Diagnostic {
  Severity severity = Severity::error;
  std::string code;               // "JR-201"
  Place place;                    // file empty when the problem has no place in a file
  std::string message;            // what is wrong: found and expected
  std::string source_line;        // the line at `place`, without its line end; empty when there is none to show
  std::uint32_t caret_width = 1;  // code points to underline from `place.column`
  std::string suggestion;         // what to do, or the text to write instead; may be empty

  bool operator==(const Diagnostic&) const = default;
};

using Diagnostics = std::vector<Diagnostic>;

// A value, or the problems that stood in its way (at least one error).
template <class T>
using Result = tl::expected<T, Diagnostics>;

enum class Color : std::uint8_t { off, on };

// Renders a diagnostic for people, ending in a newline:
//
//   charging.ridge:12:19: error: there is no column 'enrgy' in table 'sessions' [JR-202]
//     12 | measure energy = sum(enrgy for sessions)
//        |                      ^~~~~
//     fix: did you mean 'energy_kwh'?
//
// No line is wider than `width` columns (0: as wide as it is, and 40 at least): texts go on below, and of the line of the
// text the part around its place is shown.
std::string render(const Diagnostic& diagnostic, Color color = Color::off, std::size_t width = 0);
std::string render(const Diagnostics& diagnostics, Color color = Color::off, std::size_t width = 0);

// True if any of them is an error (a list may hold warnings alone).
bool has_errors(const Diagnostics& diagnostics);

}  // namespace juniper
