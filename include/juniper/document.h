// A document: what a result says, without a thought of how that looks. Renderers make of it a view in a terminal, JSON or
// CSV for programs, Markdown, an HTML page of one file.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

#include "juniper/diagnostics.h"

namespace [[gnu::visibility("default")]] juniper {

// One cell: what people read, and the exact value for programs.
struct Cell {
  // Between which numbers it lies, with the confidence that its column tells.
  struct Interval {
    double low = 0;
    double high = 0;
  };
  // What it holds. A place is one in a file, code a part of a model text; a ratio is 1 where nothing differs, and a change
  // 0.
  enum class Kind : std::uint8_t {
    null,
    text,
    code,
    place,
    boolean,
    number,
    count,
    bytes,
    duration,
    share,
    ratio,
    change
  };
  Kind kind = Kind::null;
  std::string shown;
  std::string exact;  // as JSON writes a number or boolean; a text as it is
  std::optional<Interval> interval = {};
};

// Whether programs read a number.
bool is_number(Cell::Kind kind);

// Who sees a column or a row: what is put in short is for people, raw names and what is as it should be for programs.
enum class Audience : std::uint8_t { all, people, programs };

struct TableColumn {
  std::string name;     // for programs: "code_bytes"
  std::string heading;  // for people: "codes"
  bool right = false;   // aligned to the right
  Audience audience = Audience::all;
  // Where there is no room for all columns, that of the highest number is left out first; 0: after all others.
  std::uint8_t gives_way = 0;
  // The rows are compared by its figures: a renderer may draw each as a bar, too.
  bool is_compared = false;
};

struct TableRow {
  std::vector<Cell> cells;
  bool strong = false;  // a total, a failure: set apart for people
  Audience audience = Audience::all;
  std::uint32_t depth = 0;  // below a row of less depth, of which it is a part
};

struct Heading {
  std::string text;
};
// For people alone.
struct Paragraph {
  std::string text;
};
// Errors and warnings, for people alone.
struct Messages {
  Diagnostics diagnostics;
};
// What is drawn where documents can be: on pages. It says nothing that tables beside it do not.
struct Figure {
  std::string name;  // of the script that draws it
  std::string caption;
  std::string data;  // for it, JSON
};
// Text kept as it is: a diff.
struct Verbatim {
  std::string name;
  std::string text;
};
// One named value: a line for people, a member for programs.
struct Fact {
  std::string name;
  std::string label;
  Cell value;
};
// Whether CSV holds a table among all others, or alone unless another one is asked for.
enum class InCsv : std::uint8_t { with_all, alone };
struct Table {
  std::string name;
  InCsv in_csv = InCsv::with_all;
  std::vector<TableColumn> columns;
  std::vector<TableRow> rows;
  // Rows behind these that are made when they are rendered, so that a long table is never held as cells: visits each, in
  // order, as often as it is called. Null for none. It lives as long as what it makes them of.
  std::function<void(const std::function<void(const TableRow&)>& visit)> more = {};
};

// A document. JSON holds all facts, texts and tables, by name, and so does CSV: each as a part of its own, or one of them
// (RenderOptions::part).
struct Report {
  using Block = std::variant<Heading, Paragraph, Messages, Figure, Verbatim, Fact, Table>;
  std::vector<Block> blocks;
};

enum class Format : std::uint8_t { terminal, json, csv, markdown, html };

struct RenderOptions {
  Format format = Format::terminal;
  Color color = Color::off;
  // Below the rows of an answer, for people: how many they are, what was read, and how long it took.
  bool footer = true;
  // What CSV and Markdown hold: the table of this name, or "facts" for the facts and texts (in CSV as one row). Empty: all;
  // CSV then has them one behind the other with an empty line between, each below a line "part,NAME", unless there is but
  // one, or one that is marked to stand alone.
  std::string part = {};
  // Of the terminal: lines are at most so wide. Long texts go on below, columns give way, and what was left out is said.
  // 0: as wide as they are.
  std::size_t width = 0;
  std::string title = {};  // of an HTML page
};

// What RenderOptions::part may name for a document: its tables for programs, and "facts" where it has some. Thread-safe.
std::vector<std::string> part_names(const Report& report);

// A text as a terminal may show it: characters that command it (escape sequences in a cell, say) or turn the direction of
// what follows around become escapes like \u{1b}; line ends and tabs stay. Documents are rendered so for the terminal, and
// diagnostics always. Thread-safe.
std::string visible(std::string_view text);

// A text on one line without control characters, cut to so many columns of a terminal, with "…" where it was cut.
// Thread-safe.
std::string clipped(std::string_view text, std::size_t columns);

// A model text or SQL in lines of at most so many columns that mean the same: broken at blanks, but never within quotes, and
// safe to be shown. Thread-safe.
std::string folded_code(std::string_view text, std::size_t columns);

// Renders a document; ends in a newline. Nothing comes out for a table that is not there. Thread-safe.
std::string render(const Report& report, const RenderOptions& options = {});

// The same in parts of some 64 kB, one behind the other, as they are ready.
using Sink = std::function<void(std::string_view part)>;
void render(const Report& report, const RenderOptions& options, const Sink& sink);

}  // namespace juniper
