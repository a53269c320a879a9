// SQLite's: values are as in a store (exact decimals as whole numbers of their last digit, dates as days), made of what
// stands in the file by value_of; operations are those of sql/sqlite_dialect.
#include <fmt/format.h>

#include <algorithm>

#include "live/dialect.h"
#include "live/sqlite_values.h"
#include "sql/dialect.h"

namespace juniper::live {

using namespace language;

namespace {

class SqliteDialect final : public Dialect {
 public:
  std::string engine() const override { return "SQLite"; }

  Sql column(const std::string& name, const Column& column, const std::string&) const override {
    return {fmt::format("value_of({}, {}, {}, {})", name, static_cast<int>(column.type.kind),
                        static_cast<int>(column.type.scale), static_cast<int>(column.part)),
            63};
  }
  Sql literal(const Value& value, Type type) const override { return {shared_->literal(value, type), 63}; }

  // Whether it fits is seen as it is computed.
  std::optional<int> bits(int needed) const override { return std::min(needed, 63); }

  // What leaves 64 bits becomes a real there, which nobody would notice.
  std::string operation(const Node& node, const std::vector<Sql>& x, int, std::int64_t today) const override {
    std::vector<std::string> texts;
    for (const Sql& operand : x) texts.push_back(operand.text);
    if (node.type.is_exact_number()) {
      const auto checked = [&](const char* name) { return fmt::format("{}({}, {})", name, texts[0], texts[1]); };
      if (node.op == Op::add) return checked("exact_sum");
      if (node.op == Op::subtract) return checked("exact_difference");
      if (node.op == Op::multiply) return checked("exact_product");
      if (node.op == Op::rescale) {
        texts.push_back(sql_engine::power_text(node.type.scale - node.children[0]->type.scale));
        return checked("exact_product");
      }
    }
    const std::string text = shared_->operation(node, texts, today);
    return node.type.kind == TypeKind::real ? shared_->finite(text) : text;
  }

  std::string key(const Sql& x, Type type) const override {
    // Both zeros are one value.
    return type.kind == TypeKind::real ? fmt::format("({} + 0.0)", x.text) : x.text;
  }
  std::string sum(const Sql& x, Type) const override { return fmt::format("SUM({})", x.text); }
  std::string count_distinct(const Sql& x, Type) const override { return fmt::format("COUNT(DISTINCT {})", x.text); }
  std::string extreme(const Sql& x, Type, bool least) const override {
    return fmt::format("{}({})", least ? "MIN" : "MAX", x.text);
  }
  std::optional<std::array<std::string, 3>> moments(const std::string& x) const override {
    return std::array{fmt::format("COUNT({})", x), fmt::format("AVG({})", x),
                      fmt::format("variance({0}, 0) * COUNT({0})", x)};
  }
  std::optional<std::string> quantile(const std::string& x, double fraction) const override {
    return fmt::format("quantile({}, {:.17e})", x, fraction);
  }
  std::string where(const std::string& condition, const std::string& x) const override {
    return fmt::format("CASE WHEN {} THEN {} END", condition, x);
  }
  std::string among(const Sql& x, const std::vector<Value>& values, Type type) const override {
    std::string list;
    for (const Value& value : values) list += (list.empty() ? "" : ", ") + shared_->literal(value, type);
    return fmt::format("{} IN ({})", x.text, list);
  }
  Sql looked_up(const LookUp& look_up, From& from) const override {
    return joined_look_up(look_up, from, [&](const Value& value, Type type) { return shared_->literal(value, type); });
  }
  bool joins() const override { return true; }
  // By columns of a table of its own, for which SQLite makes an index: it has none for what a function gives.
  void join(const std::string& relation, const std::string& alias, const std::vector<JoinedKey>& keys,
            From& from) const override {
    std::string columns = "*";
    std::string on;
    for (std::size_t k = 0; k < keys.size(); ++k) {
      columns += fmt::format(", {} AS \"key${}\"", keys[k].one, k);
      on += fmt::format("{}{} = {}.\"key${}\"", k == 0 ? "" : " AND ", keys[k].many, alias, k);
    }
    from.before.push_back(fmt::format("{0} AS MATERIALIZED (SELECT {1} FROM {2} AS {0})", alias, columns, relation));
    from.tables += fmt::format("\n  LEFT JOIN {} ON {}", alias, on);
  }

 private:
  std::unique_ptr<sql_engine::Dialect> shared_ = sql_engine::sqlite_dialect();
};

}  // namespace

std::unique_ptr<Dialect> sqlite_dialect() {
  return std::make_unique<SqliteDialect>();
}

}  // namespace juniper::live
