#include "source/json/json.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/json.h"
#include "source/json/pieces.h"

namespace juniper::source {

namespace {

// The fields that are read, as a tree: the children of a node are fields of the object that it is.
struct Node {
  std::map<std::string, Node, std::less<>> children;
  std::vector<std::size_t> columns;  // of the request
};

// The path of a header may be one of fields in fields, or the name of one field with points in it.
void add_path(Node& node, std::string_view path, std::size_t column) {
  node.children[std::string(path)].columns.push_back(column);
  constexpr std::ptrdiff_t most_points = 8;
  if (std::count(path.begin(), path.end(), '.') > most_points) return;
  for (std::size_t point = path.find('.'); point != std::string_view::npos; point = path.find('.', point + 1))
    add_path(node.children[std::string(path.substr(0, point))], path.substr(point + 1), column);
}

// Takes the values of one record at a time into cells.
class RecordReader : public base::JsonEvents {
 public:
  RecordReader(const Node& root, std::size_t columns, Cells& cells) : root_(root), cells_(cells), seen_(columns) {}

  // What is wrong with a record; "" for nothing. It is the last row of the cells then.
  std::string read(std::string_view text, std::uint32_t line) {
    cells_.add_row(line);
    std::fill(seen_.begin(), seen_.end(), false);
    open_.clear();
    captures_.clear();
    pending_ = nullptr;
    problem_.clear();
    const std::size_t byte = base::read_json(text, *this);
    if (problem_.empty() && byte != 0)
      problem_ = fmt::format("this record is not JSON: it can't be read at its byte {}", byte);
    if (!problem_.empty()) cells_.drop_row();
    return problem_;
  }

  bool null() override { return value(Cell(), "null"); }
  bool boolean(bool truth) override {
    const std::string_view word = truth ? "true" : "false";
    return value(Cell::of_plain(word), word);
  }
  bool whole(std::int64_t number) override {
    return value(Cell::of_integer(number), captures_.empty() ? "" : fmt::to_string(number));
  }
  bool number(std::string_view written) override {
    return value(Cell::of_plain(is_read() ? cells_.keep(written) : std::string_view()), written);
  }
  bool text(std::string_view text) override {
    return value(Cell::of_text(is_read() ? cells_.keep(text) : std::string_view()),
                 captures_.empty() ? "" : base::json_text(std::string(text)));
  }
  bool begin_object() override {
    if (open_.empty()) {
      open_.push_back({&root_, false, true});
      return true;
    }
    return begin('{', false);
  }
  bool begin_array() override {
    if (open_.empty()) return fail("this record is an array, not an object");
    return begin('[', true);
  }
  bool end_object() override { return end('}'); }
  bool end_array() override { return end(']'); }
  bool key(std::string_view name) override {
    Open& object = open_.back();
    pending_ = nullptr;
    if (object.node != nullptr) {
      const auto child = object.node->children.find(name);
      if (child != object.node->children.end()) pending_ = &child->second;
    }
    if (!captures_.empty()) {
      const std::string written = base::json_text(std::string(name)) + ":";
      write(object.is_first ? written : "," + written);
    }
    object.is_first = false;
    return true;
  }

 private:
  struct Open {
    const Node* node = nullptr;
    bool is_array = false;
    bool is_first = true;  // nothing stands in it so far
  };
  // An object or array that becomes a text.
  struct Capture {
    std::size_t column = 0;
    std::size_t depth = 0;  // of what it stands in
    std::string text;
  };

  bool fail(std::string problem) {
    problem_ = std::move(problem);
    return false;
  }
  bool is_read() const { return pending_ != nullptr && !pending_->columns.empty(); }
  void write(std::string_view text) {
    for (Capture& capture : captures_) capture.text += text;
  }
  // The comma before an item of an array.
  void write_comma() {
    if (!open_.back().is_array) return;
    if (!open_.back().is_first && !captures_.empty()) write(",");
    open_.back().is_first = false;
  }

  bool value(const Cell& cell, std::string_view written) {
    if (open_.empty()) return fail("this record is a single value, not an object");
    write_comma();
    if (!captures_.empty()) write(written);
    if (is_read()) {
      for (const std::size_t column : pending_->columns) {
        if (!put(column, cell)) return false;
      }
    }
    pending_ = nullptr;
    return true;
  }
  bool put(std::size_t column, const Cell& cell) {
    if (seen_[column]) return fail("this record has a field twice");
    seen_[column] = true;
    cells_.last(column) = cell;
    return true;
  }

  bool begin(char bracket, bool is_array) {
    write_comma();
    if (is_read()) {
      for (const std::size_t column : pending_->columns) captures_.push_back({column, open_.size(), ""});
    }
    if (!captures_.empty()) write({&bracket, 1});
    open_.push_back({is_array ? nullptr : pending_, is_array, true});
    pending_ = nullptr;
    return true;
  }
  bool end(char bracket) {
    open_.pop_back();
    if (!captures_.empty()) write({&bracket, 1});
    for (; !captures_.empty() && captures_.back().depth == open_.size(); captures_.pop_back()) {
      if (!put(captures_.back().column, Cell::of_text(cells_.keep(captures_.back().text)))) return false;
    }
    return true;
  }

  const Node& root_;
  Cells& cells_;
  std::vector<bool> seen_;  // of each column, whether this record has it
  std::vector<Open> open_;
  std::vector<Capture> captures_;
  const Node* pending_ = nullptr;  // of the value that comes; nothing if it is not read
  std::string problem_;
};

class JsonRecords : public RecordPiece {
 public:
  JsonRecords(std::shared_ptr<const Node> root, std::size_t columns) : root_(std::move(root)), columns_(columns) {}
  JsonPieces::Piece& piece() { return piece_; }

  Cells read() override {
    Cells cells(columns_);
    RecordReader reader(*root_, columns_, cells);
    for (const JsonPieces::Span& record : piece_.records) {
      const std::string_view text = std::string_view(piece_.text).substr(record.begin, record.end - record.begin);
      const std::string problem = reader.read(text, record.line);
      if (problem.empty()) continue;
      cells.add_bad({record.line, "JR-519", problem,
                     "a file of JSON holds one object on each line, or one array of objects", std::string(text)});
    }
    cells.set_lines(piece_.lines);
    return cells;
  }

 private:
  std::shared_ptr<const Node> root_;
  std::size_t columns_;
  JsonPieces::Piece piece_;
};

JsonPieces open_pieces(const std::filesystem::path& path) {
  auto bytes = ByteSource::open(path);
  if (!bytes) throw base::Failure(bytes.error());
  return JsonPieces(std::move(*bytes));
}

class JsonSource : public RecordSource {
 public:
  JsonSource(const TableRequest& request, const std::filesystem::path& path)
      : columns_(request.columns.size()), pieces_(open_pieces(path)) {
    auto root = std::make_shared<Node>();
    for (std::size_t c = 0; c < columns_; ++c) add_path(*root, request.columns[c].header, c);
    root_ = std::move(root);
  }

  std::unique_ptr<RecordPiece> next() override {
    auto records = std::make_unique<JsonRecords>(root_, columns_);
    if (!pieces_.next(records->piece())) return nullptr;
    return records;
  }
  std::uint64_t bytes_read() const override { return pieces_.bytes().bytes_read(); }
  void finish(SourceFile& source) const override {
    source.bytes = pieces_.bytes().bytes_read();
    source.hash = pieces_.bytes().hash();
  }

 private:
  std::size_t columns_;
  JsonPieces pieces_;
  std::shared_ptr<const Node> root_;
};

// Gathers the paths of the values of records: those of objects, down to what is a value, null or an array.
class PathFinder : public base::JsonEvents {
 public:
  bool null() override { return value(); }
  bool boolean(bool) override { return value(); }
  bool whole(std::int64_t) override { return value(); }
  bool number(std::string_view) override { return value(); }
  bool text(std::string_view) override { return value(); }
  bool begin_object() override {
    if (arrays_ == 0) prefix_.push_back(prefix_.empty() ? "" : key_ + ".");
    return true;
  }
  bool key(std::string_view name) override {
    if (arrays_ == 0) key_ = prefix_.back() + std::string(name);
    return true;
  }
  bool end_object() override {
    if (arrays_ == 0) prefix_.pop_back();
    return true;
  }
  bool begin_array() override {
    ++arrays_;
    return true;
  }
  bool end_array() override {
    if (--arrays_ == 0) value();
    return true;
  }
  // Before the next record, which may follow one that was not whole.
  void restart() {
    prefix_.clear();
    arrays_ = 0;
  }
  std::vector<std::string> take() { return std::move(paths_); }

 private:
  bool value() {
    if (arrays_ == 0 && !prefix_.empty() && known_.insert(key_).second) paths_.push_back(key_);
    return true;
  }

  std::vector<std::string> prefix_;  // of the fields of each object that is open
  std::string key_;
  std::size_t arrays_ = 0;
  std::set<std::string> known_;
  std::vector<std::string> paths_;
};

std::unique_ptr<RecordSource> open_json(const TableRequest& request, const std::filesystem::path& path, Connections*) {
  return std::make_unique<JsonSource>(request, path);
}

std::vector<RecordColumn> columns_of_json(const TableRequest&, const std::filesystem::path& path) {
  JsonPieces pieces = open_pieces(path);
  JsonPieces::Piece piece;
  PathFinder finder;
  while (pieces.next(piece)) {
    for (const JsonPieces::Span& record : piece.records) {
      finder.restart();
      base::read_json(std::string_view(piece.text).substr(record.begin, record.end - record.begin), finder);
    }
  }
  std::vector<RecordColumn> columns;
  for (std::string& name : finder.take()) columns.push_back({std::move(name), std::nullopt});
  return columns;
}

}  // namespace

RecordKind json_kind() {
  return {open_json, columns_of_json, false};
}

}  // namespace juniper::source
