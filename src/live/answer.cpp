#include "live/answer.h"

#include <fmt/format.h>

#include <cmath>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "base/failure.h"
#include "base/shown_text.h"

namespace juniper::live {

namespace {

// Exact numbers stand in 128 bits: sums may need them.
engine::Repr repr_of(Type type) {
  switch (type.kind) {
    case TypeKind::real:
      return engine::Repr::real;
    case TypeKind::text:
      return engine::Repr::text;
    case TypeKind::integer:
    case TypeKind::decimal:
      return engine::Repr::wide;
    case TypeKind::boolean:
    case TypeKind::date:
    case TypeKind::datetime:
    case TypeKind::time:
      return engine::Repr::narrow;
  }
  return engine::Repr::narrow;
}

[[noreturn]] void misfit(std::string_view cell, Type type) {
  throw base::Failure(base::error("JR-521",
                                  fmt::format("a live table answers '{}' where a value of type {} was expected",
                                              base::shortened(std::string(cell), 60), to_string(type)),
                                  "declare the column with the type that it has there, or mend the value"));
}

}  // namespace

Answer::Answer(const std::vector<Type>& types) : types_(types), columns_(types.size()) {
  for (std::size_t c = 0; c < types.size(); ++c) columns_[c].reset(repr_of(types[c]), 0);
}

engine::Vector& Answer::next(engine::State state) {
  engine::Vector& column = columns_[at_];
  if (++at_ == columns_.size()) {
    at_ = 0;
    ++rows_;
  }
  column.state.push_back(state);
  bytes_ += 1;
  return column;
}

void Answer::add_null() {
  engine::Vector& column = next(engine::State::null);
  engine::with_type(column.repr, [&](auto zero) { column.of<decltype(zero)>().push_back(zero); });
}

void Answer::add_exact(int128 value) {
  const Type type = types_[at_];
  if (type.kind == TypeKind::real) return add_real(base::to_real(value, 0));
  engine::Vector& column = next(engine::State::value);
  if (column.repr == engine::Repr::wide) {
    column.wide.push_back(value);
  } else if (column.repr == engine::Repr::narrow && base::fits_int64(value)) {
    column.narrow.push_back(static_cast<std::int64_t>(value));
  } else {
    misfit(to_string(value), type);
  }
  bytes_ += sizeof(std::int64_t);
}

void Answer::add_real(double value) {
  const Type type = types_[at_];
  if (std::isnan(value)) misfit("NaN", type);
  // What leaves the finite numbers is null.
  if (!std::isfinite(value)) return add_null();
  engine::Vector& column = next(engine::State::value);
  if (column.repr != engine::Repr::real) misfit(fmt::format("{}", value), type);
  column.real.push_back(value + 0.0);
  bytes_ += sizeof(double);
}

void Answer::add_text(std::string_view cell) {
  const Type type = types_[at_];
  switch (type.kind) {
    case TypeKind::text: {
      engine::Vector& column = next(engine::State::value);
      column.text.push_back(column.owned.emplace_back(cell));
      bytes_ += cell.size();
      return;
    }
    case TypeKind::integer:
    case TypeKind::decimal: {
      const auto value = base::parse_exact(cell, type.scale);
      if (!value) misfit(cell, type);
      return add_exact(*value);
    }
    case TypeKind::boolean:
      if (cell == "t" || cell == "1" || cell == "true") return add_exact(1);
      if (cell == "f" || cell == "0" || cell == "false") return add_exact(0);
      misfit(cell, type);
    case TypeKind::real: {
      // What leaves the finite numbers is null; what is no number stood in the table.
      if (cell.ends_with("inf") || cell.ends_with("Infinity")) return add_null();
      const auto value = parse_value(cell, type);
      if (!value) misfit(cell, type);
      return add_real(value->real());
    }
    case TypeKind::date:
    case TypeKind::datetime:
    case TypeKind::time: {
      if (const auto units = base::parse_exact(cell, 0)) return add_exact(*units);
      const auto value = parse_value(cell, type);
      if (!value) misfit(cell, type);
      return add_exact(value->exact());
    }
  }
}

}  // namespace juniper::live
