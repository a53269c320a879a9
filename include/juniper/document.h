// A document: for people in a terminal, for programs as JSON or CSV, for pages as Markdown.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

#include "juniper/diagnostics.h"

namespace [[gnu::visibility("default")]] juniper {

// One cell: what people read, and the exact value for programs.
struct Cell {
  enum class Kind : std::uint8_t { null, text, number, boolean };
  Kind kind = Kind::null;
  std::string shown;
  std::string exact;  // as JSON writes a number or boolean; a text as it is
};

// Who sees a column or a row: bars and rounded shares are for people, raw names and what is as it should be for
// programs.
enum class Audience : std::uint8_t { all, people, programs };

struct TableColumn {
  std::string name;     // for programs: "code_bytes"
  std::string heading;  // for people: "codes"
  bool right = false;   // aligned to the right
  Audience audience = Audience::all;
};

struct TableRow {
  std::vector<Cell> cells;
  bool strong = false;  // a total, a failure: set apart for people
  Audience audience = Audience::all;
};

struct Heading {
  std::string text;
};
// For people alone.
struct Paragraph {
  std::string text;
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
enum class InCsv : std::uint8_t { no, yes };
struct Table {
  std::string name;
  InCsv in_csv = InCsv::no;
  std::vector<TableColumn> columns;
  std::vector<TableRow> rows;
  // Rows behind these that are made when they are rendered, so that a long table is never held as cells: visits each, in
  // order, as often as it is called. Null for none. It lives as long as what it makes them of.
  std::function<void(const std::function<void(const TableRow&)>& visit)> more = {};
};

// A document. CSV holds one table of it (RenderOptions::table), JSON all facts, texts and tables, by name.
struct Report {
  std::vector<std::variant<Heading, Paragraph, Verbatim, Fact, Table>> blocks;
};

enum class Format : std::uint8_t { terminal, json, csv, markdown };

struct RenderOptions {
  Format format = Format::terminal;
  Color color = Color::off;
  // Below the rows of an answer, for people: how many they are, what was read, and how long it took.
  bool footer = true;
  // What CSV holds: the table of this name, or "facts" for the facts and texts as one row. Empty: the table that is marked
  // for CSV, else the facts.
  std::string table = {};
};

// What RenderOptions::table may name for a document: its tables for programs, and "facts" where it has some. Thread-safe.
std::vector<std::string> table_names(const Report& report);

// A text as a terminal may show it: characters that command it (escape sequences in a cell, say) or turn the direction of
// what follows around become escapes like \u{1b}; line ends and tabs stay. Documents are rendered so for the terminal, and
// diagnostics always. Thread-safe.
std::string visible(std::string_view text);

// Renders a document; ends in a newline. Nothing comes out for a table that is not there. Thread-safe.
std::string render(const Report& report, const RenderOptions& options = {});

// The same in parts of some 64 kB, one behind the other, as they are ready.
using Sink = std::function<void(std::string_view part)>;
void render(const Report& report, const RenderOptions& options, const Sink& sink);

}  // namespace juniper
