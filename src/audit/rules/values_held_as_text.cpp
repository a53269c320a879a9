// Texts each of which is a number, date or time, written as that type writes it.
#include <fmt/format.h>

#include "audit/rules.h"
#include "base/format.h"
#include "language/lexer.h"
#include "scanning/column_type.h"
#include "source/column_input.h"

namespace juniper::auditing {

using namespace language;

namespace {

// The type that all texts of a column are values of, in their one exact form.
std::optional<Type> type_of(const store::Column& data) {
  scanning::TypeFinder finder;
  for (std::uint64_t code = 0; code < data.distinct; ++code) {
    finder.add(data.text_of(code), code + 1);
    if (finder.type().kind == TypeKind::text) return std::nullopt;
  }
  for (std::uint64_t code = 0; code < data.distinct; ++code) {
    const auto value = parse_value(data.text_of(code), finder.type());
    if (!value || to_text(*value, finder.type()) != data.text_of(code)) return std::nullopt;
  }
  return finder.type();
}

// True if a few of the texts are of no other type in common: most texts need not be looked at further.
bool is_plainly_text(const store::Column& data) {
  constexpr std::uint64_t few = 50;
  scanning::TypeFinder finder;
  for (std::uint64_t i = 0; i < std::min(few, data.distinct); ++i)
    finder.add(data.text_of(i * (data.distinct - 1) / std::max<std::uint64_t>(std::min(few, data.distinct) - 1, 1)),
               i + 1);
  return finder.type().kind == TypeKind::text;
}

// The column with another type.
store::Column retyped(const store::Column& data, Type type) {
  std::vector<Value> values;
  values.reserve(data.distinct);
  for (std::uint64_t code = 0; code < data.distinct; ++code) values.push_back(*parse_value(data.text_of(code), type));
  const std::vector<std::uint64_t> codes = data.codes.decoded();
  const auto column =
      source::column_of(type, codes.size(), [&](std::size_t begin, std::size_t end, source::PieceValues& piece) {
        for (std::size_t i = begin; i < end; ++i) {
          const bool null = codes[i] == data.null_code;
          piece.is_null.push_back(null ? 1 : 0);
          if (type.kind == TypeKind::real) {
            piece.real.push_back(null ? 0 : values[codes[i]].real());
          } else {
            piece.exact.push_back(null ? 0 : static_cast<std::int64_t>(values[codes[i]].exact()));
          }
        }
      });
  return store::encode_column(column);
}

}  // namespace

void find_values_held_as_text(const Subject& subject, Findings& findings) {
  subject.each_column([&](ColumnId id, const Column& column, const store::Column& data) {
    if (column.type.kind != TypeKind::text || column.is_calculated() || column.from_row || data.distinct < 2) return;
    if (is_plainly_text(data)) return;
    const store::Column texts = subject.sampled(id);
    const auto type = type_of(texts);
    // True and false are two texts as good as any.
    if (!type || type->kind == TypeKind::boolean) return;
    const store::Column typed = retyped(texts, *type);
    const std::uint64_t bytes = subject.whole_bytes(id, typed);
    if (bytes >= data.bytes()) return;
    const std::uint64_t saved = data.bytes() - bytes;
    // Who reads it beside the model, or stands in its order, would see another.
    const auto& users = subject.users(id);
    const bool by_hand = std::any_of(users.begin(), users.end(), [](const model::User& user) {
      return user.kind == UserKind::declared || user.kind == UserKind::sort_order;
    });
    Finding finding = subject.about(
        id,
        fmt::format("all {} texts are of type {}, from {} to {}", base::grouped(data.distinct), to_string(*type),
                    to_text(typed.least, *type), to_text(typed.most, *type)),
        by_hand ? fmt::format("declare it as {} by hand, once nobody needs the texts or their order", to_string(*type))
                : "",
        saved);
    if (!by_hand) {
      finding = subject.with_step(std::move(finding),
                                  fmt::format("retype {} {}", step_name(subject.model(), id), to_string(*type)));
    }
    findings.push_back(std::move(finding));
    findings.back().estimated = subject.is_sampled(id);
  });
}

}  // namespace juniper::auditing
