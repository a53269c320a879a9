// Random tables and queries, run by the engine and, as SQL, by SQLite.
//
// Each case makes a star of its own: a fact, two dimensions and one behind the first, with nulls, keys without a match
// and duplicates; a random query in our language and its SQL twin, written side by side by one generator. Exact results
// must be equal, reals to 1e-9 of the sum of magnitudes.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cmath>
#include <map>
#include <random>

#include "support/sqlite.h"
#include "support/support.h"

namespace juniper::random_query_test {
namespace {

// One text in both languages.
struct Twin {
  std::string ours;
  std::string sql;
};

class Generator {
 public:
  explicit Generator(std::uint64_t seed) : random_(seed) {}

  std::size_t below(std::size_t n) { return random_() % n; }
  bool once_in(std::size_t n) { return below(n) == 0; }
  template <class T>
  const T& one_of(const std::vector<T>& items) {
    return items[below(items.size())];
  }

  // A column of the fact or of a table that it leads to, of a type: 0 integer, 1 decimal(2), 2 text, 3 date.
  Twin column(int type) {
    static const std::vector<std::vector<Twin>> columns{
        {{"x", "f.x"}, {"dim.kind", "d.kind"}, {"far.size", "r.size"}, {"id", "f.id"}, {"dim.far.size", "r.size"}},
        {{"price", "f.price"}, {"dim.rate", "d.rate"}, {"price", "f.price"}},
        {{"tag", "f.tag"}, {"dim.name", "d.name"}, {"far.label", "r.label"}, {"other.note", "o.note"}},
        {{"day", "f.day"}, {"other.since", "o.since"}}};
    return one_of(columns[static_cast<std::size_t>(type)]);
  }
  // The same column as a query names it.
  static std::string qualified(const std::string& ours) {
    return ours.find('.') == std::string::npos ? "fact." + ours : (ours == "dim.far.size" ? "far.size" : ours);
  }

  Twin integer(int depth) {
    if (depth == 0 || once_in(3)) return once_in(4) ? literal() : column(0);
    const Twin a = integer(depth - 1);
    const Twin b = integer(depth - 1);
    switch (below(9)) {
      case 0:
        return {"(" + a.ours + " + " + b.ours + ")", "(" + a.sql + " + " + b.sql + ")"};
      case 1:
        return {"(" + a.ours + " - " + b.ours + ")", "(" + a.sql + " - " + b.sql + ")"};
      case 2:
        return {"(" + a.ours + " * " + b.ours + ")", "(" + a.sql + " * " + b.sql + ")"};
      case 3:
        return {"(" + a.ours + " div " + b.ours + ")", "(" + a.sql + " / nullif(" + b.sql + ", 0))"};
      case 4:
        return {"(" + a.ours + " mod " + b.ours + ")", "(" + a.sql + " % nullif(" + b.sql + ", 0))"};
      case 5:
        return {"coalesce(" + a.ours + ", " + b.ours + ")", "coalesce(" + a.sql + ", " + b.sql + ")"};
      case 6:
        return {"abs(" + a.ours + ")", "abs(" + a.sql + ")"};
      case 7:
        return {"length(" + text().ours + ")", "length(" + last_text_.sql + ")"};
      default: {
        const Twin c = condition(depth - 1);
        return {"case when " + c.ours + " then " + a.ours + " else " + b.ours + " end",
                "case when " + c.sql + " then " + a.sql + " else " + b.sql + " end"};
      }
    }
  }

  // A decimal; SQL holds it as a whole number of hundredths.
  Twin decimal() {
    const Twin a = column(1);
    switch (below(4)) {
      case 0:
        return a;
      case 1: {
        const Twin b = column(1);
        return {"(" + a.ours + " + " + b.ours + ")", "(" + a.sql + " + " + b.sql + ")"};
      }
      case 2: {
        const Twin b = integer(1);
        return {"(" + a.ours + " * " + b.ours + ")", "(" + a.sql + " * " + b.sql + ")"};
      }
      default:
        return {"round(" + a.ours + " * 1.5, 2)",
                "((" + a.sql + " * 15 + case when " + a.sql + " < 0 then -5 else 5 end) / 10)"};
    }
  }

  Twin text() {
    const Twin a = column(2);
    switch (below(4)) {
      case 0: {
        const Twin b = column(2);
        last_text_ = {"(" + a.ours + " || " + b.ours + ")", "(" + a.sql + " || " + b.sql + ")"};
        break;
      }
      case 1:
        last_text_ = {"coalesce(" + a.ours + ", \"none\")", "coalesce(" + a.sql + ", 'none')"};
        break;
      default:
        last_text_ = a;
    }
    return last_text_;
  }

  Twin literal() {
    const std::string number = std::to_string(static_cast<int>(below(9)) - 3);
    return {number, number};
  }

  Twin condition(int depth) {
    if (depth > 0 && once_in(2)) {
      const Twin a = condition(depth - 1);
      if (once_in(4)) return {"(not " + a.ours + ")", "(not " + a.sql + ")"};
      const Twin b = condition(depth - 1);
      const std::string op = once_in(2) ? "and" : "or";
      return {"(" + a.ours + " " + op + " " + b.ours + ")", "(" + a.sql + " " + op + " " + b.sql + ")"};
    }
    const std::string op = one_of(std::vector<std::string>{"=", "<>", "<", "<=", ">", ">="});
    switch (below(7)) {
      case 0: {
        const Twin a = integer(1);
        const Twin b = integer(1);
        return {"(" + a.ours + " " + op + " " + b.ours + ")", "(" + a.sql + " " + op + " " + b.sql + ")"};
      }
      case 1: {
        const Twin a = column(1);
        return {"(" + a.ours + " " + op + " 1.25)", "(" + a.sql + " " + op + " 125)"};
      }
      case 2: {
        const Twin a = column(2);
        return {"(" + a.ours + " " + op + " \"b\")", "(" + a.sql + " " + op + " 'b')"};
      }
      case 3: {
        const Twin a = column(2);
        return {"(" + a.ours + " in (\"a\", \"c\"))", "(" + a.sql + " in ('a', 'c'))"};
      }
      case 4: {
        const Twin a = column(static_cast<int>(below(4)));
        return once_in(2) ? Twin{"(" + a.ours + " is null)", "(" + a.sql + " is null)"}
                          : Twin{"(" + a.ours + " is not null)", "(" + a.sql + " is not null)"};
      }
      case 5: {
        const Twin a = column(3);
        return {"(" + a.ours + " " + op + " date \"2024-01-03\")", "(" + a.sql + " " + op + " '2024-01-03')"};
      }
      default: {
        const Twin a = integer(1);
        return {"(" + a.ours + " between 0 and 3)", "(" + a.sql + " between 0 and 3)"};
      }
    }
  }

  // A condition as a query's `where`: every column with its table.
  Twin slice_condition() {
    Twin a = column(2);
    switch (below(4)) {
      case 0:
        return {qualified(a.ours) + " = \"a\"", a.sql + " = 'a'"};
      case 1:
        a = column(0);
        return {qualified(a.ours) + " > 1", a.sql + " > 1"};
      case 2:
        a = column(1);
        return {"not (" + qualified(a.ours) + " < 1.00)", "not (" + a.sql + " < 100)"};
      default:
        return {"(" + qualified(a.ours) + " is null or " + qualified(a.ours) + " <> \"b\")",
                "(" + a.sql + " is null or " + a.sql + " <> 'b')"};
    }
  }

  enum class Kind { exact, hundredths, real };
  struct Shown {
    Twin twin;
    Kind kind;
  };

  Shown aggregate() {
    Twin where{"", ""};
    if (once_in(2)) {
      const Twin c = condition(1);
      where = {" where " + c.ours, c.sql};
    }
    // SQL's twin of a filtered aggregate: the value where the condition is true, null elsewhere.
    const auto over = [&](const std::string& name, const Twin& value, const std::string& before = "") {
      const std::string filtered =
          where.sql.empty() ? value.sql : "case when " + where.sql + " then " + value.sql + " end";
      return Twin{name + "(" + before + value.ours + " for fact" + where.ours + ")",
                  name + "(" + before + filtered + ")"};
    };
    switch (below(9)) {
      case 0:
        return {{"count(fact" + where.ours + ")",
                 where.sql.empty() ? "count(*)" : "count(case when " + where.sql + " then 1 end)"},
                Kind::exact};
      case 1:
        return {over("sum", integer(2)), Kind::exact};
      case 2:
        return {over("sum", decimal()), Kind::hundredths};
      case 3:
        return {over("avg", integer(2)), Kind::real};
      case 4:
        return {over(once_in(2) ? "min" : "max", integer(2)), Kind::exact};
      case 5:
        return {over(once_in(2) ? "min" : "max", text()), Kind::exact};
      case 6:
        return {over("count", text(), "distinct "), Kind::exact};
      case 7:
        return {over("count", column(static_cast<int>(below(4)))), Kind::exact};
      default:
        return {over("count", integer(1), "distinct "), Kind::exact};
    }
  }

  // --- data ---------------------------------------------------------------------------------------------------------

  struct Data {
    std::map<std::string, std::string> files;
    std::string sql;
  };

  Data data() {
    Data made;
    const auto number = [&](int low, int high) {
      return once_in(8) ? std::string()
                        : std::to_string(low + static_cast<int>(below(static_cast<std::size_t>(high - low + 1))));
    };
    const auto letter = [&] { return once_in(8) ? std::string() : std::string(1, static_cast<char>('a' + below(4))); };
    const auto day = [&] { return once_in(8) ? std::string() : fmt::format("2024-01-{:02}", 1 + below(5)); };
    const auto add = [&](const std::string& table, const std::string& header, const std::string& types,
                         const std::vector<std::vector<std::string>>& rows, const std::vector<std::string>& kinds) {
      std::string& csv = made.files[table + ".csv"];
      csv = header + "\n";
      made.sql += "create table " + table + "(" + types + ");\n";
      for (const auto& row : rows) {
        std::string values;
        for (std::size_t i = 0; i < row.size(); ++i) {
          std::string field = row[i];
          std::string value = field.empty() ? "null" : (kinds[i] == "t" ? "'" + field + "'" : field);
          if (kinds[i] == "d" && !field.empty()) {
            const int hundredths = std::stoi(field);
            field = fmt::format("{}{}.{:02}", hundredths < 0 ? "-" : "", std::abs(hundredths) / 100,
                                std::abs(hundredths) % 100);
          }
          csv += (i == 0 ? "" : ",") + field;
          values += (i == 0 ? "" : ",") + value;
        }
        csv += "\n";
        made.sql += "insert into " + table + " values (" + values + ");\n";
      }
    };
    std::vector<std::vector<std::string>> rows;
    for (int i = 0; i < 5; ++i) rows.push_back({std::to_string(i), number(-2, 4), letter()});
    add("far", "far_id,size,label", "far_id integer, size integer, label text", rows, {"n", "n", "t"});
    rows.clear();
    for (int i = 0; i < 8; ++i)
      rows.push_back({std::to_string(i * 3), number(0, 6), number(0, 3), number(-300, 500), letter()});
    add("dim", "dim_id,far_id,kind,rate,name", "dim_id integer, far_id integer, kind integer, rate integer, name text",
        rows, {"n", "n", "n", "d", "t"});
    rows.clear();
    for (const char* code : {"k", "l", "m"}) rows.push_back({code, letter(), day()});
    add("other", "code,note,since", "code text, note text, since text", rows, {"t", "t", "t"});
    rows.clear();
    const std::size_t count = once_in(10) ? below(2) : 5 + below(60);
    for (std::size_t i = 0; i < count; ++i)
      rows.push_back({std::to_string(i), number(0, 30),
                      once_in(8) ? "" : std::string(1, static_cast<char>('k' + below(5))), number(-5, 9),
                      number(-200, 400), letter(), day()});
    add("fact", "id,dim_id,code,x,price,tag,day",
        "id integer, dim_id integer, code text, x integer, price integer, tag text, day text", rows,
        {"n", "n", "t", "n", "d", "t", "t"});
    return made;
  }

 private:
  std::mt19937_64 random_;
  Twin last_text_;
};

constexpr const char* model_text =
    R"(table fact from csv "fact.csv" { key id integer  dim_id integer  code text  x integer  price decimal(2)  tag text  day date }
table dim from csv "dim.csv" { key dim_id integer  far_id integer  kind integer  rate decimal(2)  name text }
table far from csv "far.csv" { key far_id integer  size integer  label text }
table other from csv "other.csv" { key code text  note text  since date }
link fact.dim_id -> dim.dim_id
link dim.far_id -> far.far_id
link fact.code -> other.code
)";
constexpr const char* joins =
    " from fact f left join dim d on f.dim_id = d.dim_id left join far r on d.far_id = r.far_id left join other o on "
    "f.code = o.code";

// A result cell as SQL prints its twin: hundredths as a whole number.
std::string as_sql(const Value& value, Type type, Generator::Kind kind) {
  if (value.is_null()) return "null";
  if (kind == Generator::Kind::hundredths) return to_text(value, {TypeKind::integer, 0});
  if (type.kind == TypeKind::decimal) return to_text(value, {TypeKind::integer, 0});
  return to_text(value, type);
}

TEST(RandomQuery, AgreesWithSqlite) {
  const std::uint64_t seed = test::test_seed(20261123);
  std::cout << "seed " << seed << "\n";
  std::uint64_t cells = 0;
  std::uint64_t with_value = 0;
  for (std::uint64_t number = 0; number < 25; ++number) {
    Generator generator(seed + number * 1000003);
    const Generator::Data data = generator.data();
    const test::SmallModel model(model_text, data.files);
    const Dataset dataset = model.open();
    std::string script = data.sql;
    struct Asked {
      std::string ours;
      QueryResult result;
      std::vector<Generator::Kind> kinds;
    };
    std::vector<Asked> asked;
    for (int q = 0; q < 24; ++q) {
      std::vector<Twin> keys;
      for (std::size_t k = generator.below(4); k > 0; --k) {
        const Twin key = generator.column(static_cast<int>(generator.below(4)));
        if (std::none_of(keys.begin(), keys.end(), [&](const Twin& t) { return t.sql == key.sql; }))
          keys.push_back(key);
      }
      std::vector<Generator::Shown> shown;
      for (std::size_t s = 1 + generator.below(3); s > 0; --s) shown.push_back(generator.aggregate());
      std::vector<Twin> filters;
      for (std::size_t f = generator.below(3); f > 0; --f) filters.push_back(generator.slice_condition());
      std::string ours;
      std::string sql = "select ";
      std::string group;
      for (std::size_t k = 0; k < keys.size(); ++k) {
        ours += (k == 0 ? "by " : ", ") + Generator::qualified(keys[k].ours);
        sql += keys[k].sql + ", ";
        group += (k == 0 ? "" : ", ") + keys[k].sql;
      }
      std::string order = group;
      ours += " show ";
      for (std::size_t s = 0; s < shown.size(); ++s) {
        ours += (s == 0 ? "" : ", ") + ("s" + std::to_string(s)) + " = " + shown[s].twin.ours;
        sql += (s == 0 ? "" : ", ") + shown[s].twin.sql;
      }
      std::string where;
      for (std::size_t f = 0; f < filters.size(); ++f) {
        ours += (f == 0 ? " where " : " and ") + std::string("(") + filters[f].ours + ")";
        where += (f == 0 ? " where " : " and ") + std::string("(") + filters[f].sql + ")";
      }
      sql += std::string(joins) + where;
      if (!keys.empty()) {
        std::string any;
        for (std::size_t s = 0; s < shown.size(); ++s)
          any += (s == 0 ? "" : " or ") + shown[s].twin.sql + " is not null";
        std::string nulls_last;
        for (std::size_t k = 0; k < keys.size(); ++k)
          nulls_last += (k == 0 ? "" : ", ") + keys[k].sql + " is null, " + keys[k].sql;
        sql += " group by " + group + " having " + any + " order by " + nulls_last;
      }
      const auto result = ask(dataset, {ours, {}});
      ASSERT_TRUE(result) << "seed " << seed << "\n" << ours << "\n" << test::messages(result.error());
      std::vector<Generator::Kind> kinds(keys.size(), Generator::Kind::exact);
      for (const auto& s : shown) kinds.push_back(s.kind);
      asked.push_back({ours, *result, kinds});
      script += "select 'query';\n" + sql + ";\n";
    }
    const auto rows = test::run_sqlite(script);
    std::size_t next = 0;
    for (const Asked& a : asked) {
      ASSERT_LT(next, rows.size());
      ASSERT_EQ(rows[next++], std::vector<std::string>{"query"}) << "more rows than ours, seed " << seed << "\n"
                                                                 << a.ours;
      for (const ResultRow& row : a.result.rows) {
        ASSERT_LT(next, rows.size()) << "seed " << seed << "\n" << a.ours;
        const auto& expected = rows[next++];
        ASSERT_EQ(expected.size(), row.cells.size()) << "fewer rows than ours, seed " << seed << "\n" << a.ours;
        for (std::size_t i = 0; i < expected.size(); ++i) {
          const std::string found = as_sql(row.cells[i], a.result.columns[i].type, a.kinds[i]);
          ++cells;
          with_value += found != "null" ? 1 : 0;
          if (a.kinds[i] == Generator::Kind::real && found != "null" && expected[i] != "null") {
            ASSERT_NEAR(std::stod(found), std::stod(expected[i]), 1e-9 * (1 + std::fabs(std::stod(found))))
                << "seed " << seed << "\n"
                << a.ours;
          } else {
            ASSERT_EQ(found, expected[i]) << "seed " << seed << ", column " << i << "\n" << a.ours;
          }
        }
      }
    }
    EXPECT_EQ(next, rows.size()) << "seed " << seed;
  }
  std::cout << cells << " cells compared, " << with_value << " of them not null\n";
  EXPECT_GT(with_value, cells / 2);
}

}  // namespace
}  // namespace juniper::random_query_test
