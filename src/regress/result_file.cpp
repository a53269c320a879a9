#include "regress/result_file.h"

#include <fmt/format.h>

#include <charconv>
#include <optional>
#include <sstream>

#include "base/diagnostics.h"

namespace juniper::regress {

namespace {

constexpr std::string_view null_cell = "\\N";

std::string escaped(std::string_view text) {
  std::string out;
  for (const char c : text) {
    switch (c) {
      case '\t':
        out += "\\t";
        break;
      case '\n':
        out += "\\n";
        break;
      case '\r':
        out += "\\r";
        break;
      case '\\':
        out += "\\\\";
        break;
      default:
        out += c;
    }
  }
  return out;
}

std::string unescaped(std::string_view text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '\\' || i + 1 == text.size()) {
      out += text[i];
      continue;
    }
    switch (text[++i]) {
      case 't':
        out += '\t';
        break;
      case 'n':
        out += '\n';
        break;
      case 'r':
        out += '\r';
        break;
      default:
        out += text[i];
    }
  }
  return out;
}

std::vector<std::string> fields_of(const std::string& line) {
  std::vector<std::string> fields(1);
  for (const char c : line) {
    if (c == '\t') {
      fields.emplace_back();
    } else {
      fields.back() += c;
    }
  }
  return fields;
}

std::optional<Type> parse_type(const std::string& text) {
  for (const TypeKind kind : {TypeKind::boolean, TypeKind::integer, TypeKind::real, TypeKind::text, TypeKind::date,
                              TypeKind::datetime, TypeKind::time}) {
    if (text == to_string(Type{kind, 0})) return Type{kind, 0};
  }
  for (std::uint8_t scale = 0; scale <= 18; ++scale) {
    if (text == to_string(Type{TypeKind::decimal, scale})) return Type{TypeKind::decimal, scale};
  }
  return std::nullopt;
}

template <class Number>
bool parse_number(const std::string& text, Number& number) {
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), number);
  return error == std::errc() && end == text.data() + text.size();
}

class ResultReader {
 public:
  ResultReader(const std::string& file, const std::string& text) : file_(file), stream_(text) {}

  Result<RecordedResult> run() {
    RecordedResult read;
    QueryResult& result = read.result;
    if (!next() || fields_[0] != first_line) return fail(fmt::format("'{}' was expected", first_line));
    std::uint64_t rows = 0;
    bool has_rows = false;
    while (!has_rows && next()) {
      if (fields_[0] == "query" && fields_.size() == 2) {
        read.query = unescaped(fields_[1]);
      } else if (fields_[0] == "text" && fields_.size() == 2) {
        read.text = unescaped(fields_[1]);
      } else if (fields_[0] == "set" && fields_.size() == 3) {
        read.set.emplace(unescaped(fields_[1]), unescaped(fields_[2]));
      } else if (fields_[0] == "asked" && fields_.size() == 2 && parse_number(fields_[1], read.asked)) {
      } else if (fields_[0] == "model" && fields_.size() == 2) {
        read.model = fields_[1];
      } else if ((fields_[0] == "key" || fields_[0] == "value") && fields_.size() == 4) {
        const auto type = parse_type(fields_[2]);
        if (!type) return fail(fmt::format("'{}' is not a type", fields_[2]));
        result.columns.push_back({unescaped(fields_[1]), *type, unescaped(fields_[3]), fields_[0] == "key"});
      } else if (fields_[0] == "level" && fields_.size() >= 2) {
        add_level(result);
      } else if (fields_[0] == "rows" && fields_.size() == 2 && parse_number(fields_[1], rows)) {
        has_rows = true;
      } else {
        return fail("query, text, set, asked, model, key, value, level or rows was expected");
      }
    }
    if (!has_rows) return fail("the file ends before its rows");
    for (std::uint64_t i = 0; i < rows; ++i) {
      if (!next()) return fail(fmt::format("the file ends after {} of {} rows", i, rows));
      if (auto done = add_row(result); !done) return tl::unexpected(done.error());
    }
    if (next()) return fail("more rows stand here than the file says");
    return read;
  }

 private:
  bool next() {
    std::string line;
    if (!std::getline(stream_, line)) return false;
    ++line_;
    fields_ = fields_of(line);
    return true;
  }

  tl::unexpected<Diagnostics> fail(std::string message) const {
    return tl::unexpected(base::error_at("JR-904", Place{file_, line_, 0}, std::move(message),
                                         "restore the file, or remove the baseline and record it again"));
  }

  void add_level(QueryResult& result) const {
    result.levels.push_back(unescaped(fields_[1]));
    std::vector<bool> kept;
    for (const ResultColumn& column : result.columns) {
      if (column.is_key)
        kept.push_back(std::find(fields_.begin() + 2, fields_.end(), escaped(column.name)) != fields_.end());
    }
    result.kept.push_back(std::move(kept));
  }

  Result<void> add_row(QueryResult& result) const {
    ResultRow row;
    if (fields_.size() != result.columns.size() + 1)
      return fail(fmt::format("{} cells were expected, found {}", result.columns.size(), fields_.size() - 1));
    if (!parse_number(fields_[0], row.level) || row.level >= result.levels.size())
      return fail(fmt::format("'{}' is not a level", fields_[0]));
    for (std::size_t i = 0; i < result.columns.size(); ++i) {
      if (fields_[i + 1] == null_cell) {
        row.cells.emplace_back();
        continue;
      }
      const auto value = parse_value(unescaped(fields_[i + 1]), result.columns[i].type);
      if (!value)
        return fail(fmt::format("'{}' is not {} ({})", fields_[i + 1], to_string(result.columns[i].type),
                                result.columns[i].name));
      row.cells.push_back(*value);
    }
    result.rows.push_back(std::move(row));
    return {};
  }

  std::string file_;
  std::istringstream stream_;
  std::vector<std::string> fields_;
  std::uint32_t line_ = 0;
};

}  // namespace

std::string write_result(const RecordedResult& recorded) {
  const QueryResult& result = recorded.result;
  std::string out = fmt::format("{}\nquery\t{}\n", first_line, escaped(recorded.query));
  if (!recorded.text.empty()) out += fmt::format("text\t{}\n", escaped(recorded.text));
  for (const auto& [name, value] : recorded.set) out += fmt::format("set\t{}\t{}\n", escaped(name), escaped(value));
  if (recorded.asked != 0) out += fmt::format("asked\t{}\n", recorded.asked);
  out += fmt::format("model\t{}\n", recorded.model);
  for (const ResultColumn& column : result.columns) {
    out += fmt::format("{}\t{}\t{}\t{}\n", column.is_key ? "key" : "value", escaped(column.name),
                       to_string(column.type), escaped(column.format));
  }
  for (std::size_t level = 0; level < result.levels.size(); ++level) {
    out += "level\t" + escaped(result.levels[level]);
    for (std::size_t k = 0; k < result.kept[level].size(); ++k) {
      if (result.kept[level][k]) out += "\t" + escaped(result.columns[k].name);
    }
    out += "\n";
  }
  out += fmt::format("rows\t{}\n", result.rows.size());
  for (const ResultRow& row : result.rows) {
    out += fmt::format("{}", row.level);
    for (std::size_t i = 0; i < row.cells.size(); ++i) {
      out += "\t";
      out += row.cells[i].is_null() ? std::string(null_cell) : escaped(to_text(row.cells[i], result.columns[i].type));
    }
    out += "\n";
  }
  return out;
}

Result<RecordedResult> read_result(const std::string& file, const std::string& text) {
  return ResultReader(file, text).run();
}

}  // namespace juniper::regress
