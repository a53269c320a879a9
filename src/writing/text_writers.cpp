// CSV and JSON.
#include <fmt/format.h>

#include "base/json.h"
#include "writing/table_writer.h"

namespace juniper::writing {

void BatchColumn::clear() {
  exact.clear();
  real.clear();
  text.clear();
  is_null.clear();
}

void BatchColumn::add(const Value& value, Type type) {
  is_null.push_back(value.is_null() ? 1 : 0);
  if (type.kind == TypeKind::text) {
    text.push_back(value.is_null() ? std::string_view() : std::string_view(value.text()));
  } else if (type.kind == TypeKind::real) {
    real.push_back(value.is_null() ? 0 : value.real());
  } else {
    exact.push_back(value.is_null() ? int128{0} : value.exact());
  }
}

unsigned digits_of(int128 units) {
  unsigned digits = 1;
  for (; units > 9 || units < -9; units /= 10) ++digits;
  return digits;
}

std::string text_of(const BatchColumn& column, Type type, std::size_t row) {
  if (type.kind == TypeKind::text) return std::string(column.text[row]);
  if (type.kind == TypeKind::real) return to_text(Value::of(column.real[row]), type);
  return to_text(Value::of(column.exact[row]), type);
}

namespace {

constexpr std::size_t bytes_of_block = std::size_t{1} << 18;

class CsvWriter : public TableWriter {
 public:
  CsvWriter(std::vector<WrittenColumn> columns, Sink sink) : columns_(std::move(columns)), sink_(std::move(sink)) {
    for (const WrittenColumn& column : columns_) {
      if (&column != &columns_.front()) out_ += ',';
      add(column.name);
    }
    out_ += '\n';
  }

  void write(const Batch& batch) override {
    for (std::size_t row = 0; row < batch.rows; ++row) {
      for (std::size_t c = 0; c < columns_.size(); ++c) {
        if (c > 0) out_ += ',';
        const BatchColumn& column = batch.columns[c];
        if (column.is_null[row] != 0) continue;
        if (columns_[c].type.kind == TypeKind::text) {
          add(column.text[row]);
        } else {
          out_ += text_of(column, columns_[c].type, row);
        }
      }
      out_ += '\n';
      if (out_.size() >= bytes_of_block) flush();
    }
  }
  void finish() override { flush(); }

 private:
  void add(std::string_view text) {
    const bool is_bare = !text.empty() && text.find_first_of(",\"\r\n") == std::string_view::npos;
    if (is_bare) {
      out_ += text;
      return;
    }
    out_ += '"';
    for (const char c : text) out_.append(c == '"' ? 2 : 1, c);
    out_ += '"';
  }
  void flush() {
    sink_(out_);
    out_.clear();
  }

  std::vector<WrittenColumn> columns_;
  Sink sink_;
  std::string out_;
};

class JsonWriter : public TableWriter {
 public:
  JsonWriter(std::vector<WrittenColumn> columns, Sink sink) : columns_(std::move(columns)), sink_(std::move(sink)) {
    for (const WrittenColumn& column : columns_)
      keys_.push_back((keys_.empty() ? "{" : ",") + base::json_text(column.name) + ":");
  }

  void write(const Batch& batch) override {
    for (std::size_t row = 0; row < batch.rows; ++row) {
      for (std::size_t c = 0; c < columns_.size(); ++c) {
        out_ += keys_[c];
        add(batch.columns[c], columns_[c].type, row);
      }
      out_ += columns_.empty() ? "{}\n" : "}\n";
      if (out_.size() >= bytes_of_block) flush();
    }
  }
  void finish() override { flush(); }

 private:
  void add(const BatchColumn& column, Type type, std::size_t row) {
    if (column.is_null[row] != 0) {
      out_ += "null";
      return;
    }
    switch (type.kind) {
      case TypeKind::text:
        out_ += base::json_text(std::string(column.text[row]));
        return;
      case TypeKind::date:
      case TypeKind::datetime:
      case TypeKind::time:
        out_ += '"' + text_of(column, type, row) + '"';
        return;
      case TypeKind::boolean:
      case TypeKind::integer:
      case TypeKind::decimal:
      case TypeKind::real:
        out_ += text_of(column, type, row);
        return;
    }
  }
  void flush() {
    sink_(out_);
    out_.clear();
  }

  std::vector<WrittenColumn> columns_;
  Sink sink_;
  std::vector<std::string> keys_;
  std::string out_;
};

}  // namespace

std::unique_ptr<TableWriter> csv_writer(std::vector<WrittenColumn> columns, Sink sink) {
  return std::make_unique<CsvWriter>(std::move(columns), std::move(sink));
}

std::unique_ptr<TableWriter> json_writer(std::vector<WrittenColumn> columns, Sink sink) {
  return std::make_unique<JsonWriter>(std::move(columns), std::move(sink));
}

}  // namespace juniper::writing
