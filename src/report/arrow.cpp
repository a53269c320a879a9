// A result as an Arrow struct array. What a schema or an array points to lives in an object of ours behind
// `private_data`; `release` deletes it. Children release what is theirs by themselves, so that whoever takes the array
// may keep single columns of it.
#include "juniper/arrow.h"

#include <fmt/format.h>

#include <array>
#include <cstring>
#include <memory>
#include <string>
#include <vector>

#include "base/exact.h"
#include "base/failure.h"
#include "report/cells.h"

namespace juniper {

namespace {

// --- what the structures point to -----------------------------------------------------------------------------------

struct SchemaParts {
  std::string format;
  std::string name;
  std::vector<ArrowSchema> fields;
  std::vector<ArrowSchema*> children;
};

struct ArrayParts {
  std::vector<std::uint8_t> validity;
  std::vector<std::uint8_t> values;
  std::vector<std::int64_t> offsets;  // of texts
  std::array<const void*, 3> buffers{};
  std::vector<ArrowArray> columns;
  std::vector<ArrowArray*> children;
};

// Also where a child was taken by somebody else, who has marked it as released here.
template <class Parts, class Structure>
void release(Structure* structure) {
  for (std::int64_t c = 0; c < structure->n_children; ++c) {
    if (structure->children[c]->release != nullptr) structure->children[c]->release(structure->children[c]);
  }
  delete static_cast<Parts*>(structure->private_data);
  structure->release = nullptr;
}

ArrowSchema schema_of(std::string format, std::string name, std::vector<ArrowSchema> fields = {}) {
  auto parts = std::make_unique<SchemaParts>();
  parts->format = std::move(format);
  parts->name = std::move(name);
  parts->fields = std::move(fields);
  for (ArrowSchema& field : parts->fields) parts->children.push_back(&field);
  ArrowSchema schema{};
  schema.format = parts->format.c_str();
  schema.name = parts->name.c_str();
  schema.flags = parts->fields.empty() ? ARROW_FLAG_NULLABLE : 0;
  schema.n_children = static_cast<std::int64_t>(parts->children.size());
  schema.children = parts->children.data();
  schema.release = &release<SchemaParts, ArrowSchema>;
  schema.private_data = parts.release();
  return schema;
}

ArrowArray array_of(std::unique_ptr<ArrayParts> parts, std::size_t rows, std::int64_t nulls,
                    std::initializer_list<const void*> buffers) {
  ArrowArray array{};
  std::copy(buffers.begin(), buffers.end(), parts->buffers.begin());
  for (ArrowArray& column : parts->columns) parts->children.push_back(&column);
  array.length = static_cast<std::int64_t>(rows);
  array.null_count = nulls;
  array.n_buffers = static_cast<std::int64_t>(buffers.size());
  array.buffers = parts->buffers.data();
  array.n_children = static_cast<std::int64_t>(parts->children.size());
  array.children = parts->children.data();
  array.release = &release<ArrayParts, ArrowArray>;
  array.private_data = parts.release();
  return array;
}

// --- columns --------------------------------------------------------------------------------------------------------

std::string format_of(Type type) {
  switch (type.kind) {
    case TypeKind::boolean:
      return "b";
    case TypeKind::integer:
      return "l";
    case TypeKind::decimal:
      return fmt::format("d:38,{}", type.scale);
    case TypeKind::real:
      return "g";
    case TypeKind::text:
      return "U";
    case TypeKind::date:
      return "tdD";
    case TypeKind::datetime:
      return "tsu:";
    case TypeKind::time:
      return "ttu";
  }
  return "n";
}

void set_bit(std::vector<std::uint8_t>& bits, std::size_t at) {
  bits[at / 8] = static_cast<std::uint8_t>(bits[at / 8] | 1U << at % 8);
}

template <class Number>
void put(std::vector<std::uint8_t>& values, std::size_t row, Number number) {
  std::memcpy(values.data() + row * sizeof(Number), &number, sizeof(Number));
}

// Thrown at a number that the column's type does not hold.
struct DoesNotFit {};

void put_exact(std::vector<std::uint8_t>& values, std::size_t row, int128 units, Type type) {
  static const int128 too_many_digits = base::power_of_ten(38);
  switch (type.kind) {
    case TypeKind::boolean:
      if (units != 0) set_bit(values, row);
      return;
    case TypeKind::decimal:
      if (units >= too_many_digits || units <= -too_many_digits) throw DoesNotFit();
      return put(values, row, units);
    case TypeKind::date:
      return put(values, row, static_cast<std::int32_t>(units));
    case TypeKind::integer:
    case TypeKind::datetime:
    case TypeKind::time:
      if (!base::fits_int64(units)) throw DoesNotFit();
      return put(values, row, static_cast<std::int64_t>(units));
    case TypeKind::real:
    case TypeKind::text:
      return;  // not exact
  }
}

std::size_t bytes_of_values(Type type, std::size_t rows) {
  switch (type.kind) {
    case TypeKind::boolean:
      return (rows + 7) / 8;
    case TypeKind::date:
      return rows * sizeof(std::int32_t);
    case TypeKind::decimal:
      return rows * sizeof(int128);
    case TypeKind::integer:
    case TypeKind::real:
    case TypeKind::datetime:
    case TypeKind::time:
      return rows * sizeof(std::int64_t);
    case TypeKind::text:
      return 0;  // grows
  }
  return 0;
}

// A column whose value in a row is value(row), which may be null.
template <class ValueOf>
ArrowArray column_of(Type type, std::size_t rows, const ValueOf& value_of) {
  auto parts = std::make_unique<ArrayParts>();
  const bool is_text = type.kind == TypeKind::text;
  parts->validity.resize((rows + 7) / 8);
  parts->values.resize(bytes_of_values(type, rows));
  if (is_text) parts->offsets.push_back(0);
  std::int64_t nulls = 0;
  for (std::size_t row = 0; row < rows; ++row) {
    const Value& value = value_of(row);
    if (value.is_null()) {
      ++nulls;
    } else {
      set_bit(parts->validity, row);
      if (is_text) {
        parts->values.insert(parts->values.end(), value.text().begin(), value.text().end());
      } else if (type.kind == TypeKind::real) {
        put(parts->values, row, value.real());
      } else {
        put_exact(parts->values, row, value.exact(), type);
      }
    }
    if (is_text) parts->offsets.push_back(static_cast<std::int64_t>(parts->values.size()));
  }
  const void* const validity = nulls == 0 ? nullptr : parts->validity.data();
  const void* const values = parts->values.data();
  if (!is_text) return array_of(std::move(parts), rows, nulls, {validity, values});
  const void* const offsets = parts->offsets.data();
  return array_of(std::move(parts), rows, nulls, {validity, offsets, values});
}

// Columns under way: released unless they are taken.
template <class Structure>
struct Released {
  std::vector<Structure> all;
  ~Released() {
    for (Structure& one : all) one.release(&one);
  }
  std::vector<Structure> take() { return std::exchange(all, {}); }
};

}  // namespace

Result<void> to_arrow(const QueryResult& result, ArrowSchema& schema, ArrowArray& array) {
  schema = {};
  array = {};
  return base::guarded([&]() -> Result<void> {
    const std::size_t rows = result.rows.size();
    Released<ArrowSchema> fields;
    Released<ArrowArray> columns;
    fields.all.reserve(result.columns.size() + 1);
    columns.all.reserve(result.columns.size() + 1);
    fields.all.push_back(schema_of("U", report_cells::level_name(result)));
    std::vector<Value> levels;
    for (const std::string& level : result.levels) levels.push_back(Value::of(level));
    columns.all.push_back(column_of(Type{TypeKind::text, 0}, rows,
                                    [&](std::size_t row) -> const Value& { return levels[result.rows[row].level]; }));
    for (std::size_t c = 0; c < result.columns.size(); ++c) {
      const ResultColumn& column = result.columns[c];
      fields.all.push_back(schema_of(format_of(column.type), column.name));
      try {
        columns.all.push_back(
            column_of(column.type, rows, [&](std::size_t row) -> const Value& { return result.rows[row].cells[c]; }));
      } catch (const DoesNotFit&) {
        return tl::unexpected(base::error(
            "JR-709",
            fmt::format("a number of '{}' is too large for Arrow's type of {}", column.name, to_string(column.type)),
            "make the measure a real, or divide it"));
      }
    }
    auto whole = std::make_unique<ArrayParts>();
    whole->columns.reserve(columns.all.size());
    whole->children.reserve(columns.all.size());
    Released<ArrowSchema> top;
    top.all.push_back(schema_of("+s", "", fields.take()));
    whole->columns = columns.take();
    array = array_of(std::move(whole), rows, 0, {nullptr});
    schema = top.take()[0];
    return {};
  });
}

}  // namespace juniper
