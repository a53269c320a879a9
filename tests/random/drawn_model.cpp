#include "random/drawn_model.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <limits>
#include <set>

#include "base/calendar.h"
#include "base/exact.h"

namespace juniper::test {

namespace {

constexpr Type integer{TypeKind::integer, 0};
constexpr Type date{TypeKind::date, 0};

// high and low: near one end of the type alone, as what is thought of a difference must know both signs.
// many: more than fit one way of grouping, of sizes that SQL can add up.
enum class Profile : std::uint8_t { few, wide, extreme, high, low, one, none, spread, many };

constexpr std::size_t many_values = 70'000;

Type drawn_type(Random& random) {
  static constexpr std::array types{integer,
                                    integer,
                                    Type{TypeKind::text, 0},
                                    Type{TypeKind::text, 0},
                                    date,
                                    Type{TypeKind::decimal, 0},
                                    Type{TypeKind::decimal, 1},
                                    Type{TypeKind::decimal, 2},
                                    Type{TypeKind::decimal, 6},
                                    Type{TypeKind::decimal, 18},
                                    Type{TypeKind::real, 0},
                                    Type{TypeKind::real, 0},
                                    Type{TypeKind::boolean, 0},
                                    Type{TypeKind::datetime, 0},
                                    Type{TypeKind::time, 0}};
  return types[pick(random, types.size())];
}

Profile drawn_profile(Random& random) {
  static constexpr std::array profiles{Profile::few,  Profile::few,     Profile::few,    Profile::wide,
                                       Profile::wide, Profile::extreme, Profile::high,   Profile::low,
                                       Profile::one,  Profile::none,    Profile::spread, Profile::many};
  return profiles[pick(random, profiles.size())];
}

// Units of a number: of 64 bits, none of them without a meaning.
std::int64_t drawn_units(Random& random, Profile profile) {
  constexpr std::int64_t most = std::numeric_limits<std::int64_t>::max();
  constexpr std::int64_t least = std::numeric_limits<std::int64_t>::min();
  static constexpr std::array ends{least,           least + 1,        most,           most - 1,
                                   std::int64_t{0}, std::int64_t{-1}, std::int64_t{1}};
  switch (profile) {
    case Profile::few:
      return static_cast<std::int64_t>(pick(random, 5)) - 1;
    case Profile::wide:
      return static_cast<std::int64_t>(random());
    case Profile::extreme:
      return ends[pick(random, ends.size())];
    case Profile::high:
      return most - static_cast<std::int64_t>(pick(random, 5));
    case Profile::low:
      return least + static_cast<std::int64_t>(pick(random, 5));
    case Profile::one:
    case Profile::none:
      return 7;
    case Profile::spread:
      return 1000 + 250 * static_cast<std::int64_t>(pick(random, 40));
    case Profile::many:
      return static_cast<std::int64_t>(pick(random, many_values)) - 1000;
  }
  return 0;
}

// A day of the years 1 to 9999.
std::int64_t drawn_day(Random& random, Profile profile) {
  static const std::int64_t first = base::days_from_civil(1, 1, 1);
  static const std::int64_t last = base::days_from_civil(9999, 12, 31);
  switch (profile) {
    case Profile::extreme: {
      const std::array days{first,
                            first + 1,
                            last,
                            last - 1,
                            base::days_from_civil(2024, 2, 29),
                            base::days_from_civil(1970, 1, 1),
                            base::days_from_civil(1969, 12, 31)};
      return days[pick(random, days.size())];
    }
    case Profile::wide:
      return first + static_cast<std::int64_t>(pick(random, static_cast<std::size_t>(last - first)));
    case Profile::high:
      return last - static_cast<std::int64_t>(pick(random, 5));
    case Profile::low:
      return first + static_cast<std::int64_t>(pick(random, 5));
    case Profile::many:
      return base::days_from_civil(1900, 1, 1) + static_cast<std::int64_t>(pick(random, many_values));
    case Profile::few:
    case Profile::one:
    case Profile::none:
    case Profile::spread:
      break;
  }
  return base::days_from_civil(2024, 12, 27) + static_cast<std::int64_t>(pick(random, profile == Profile::one ? 1 : 9));
}

std::string drawn_text(Random& random, Profile profile) {
  static constexpr std::array words{"app", "Coast", "coast", "a b",   "x%y", "é", "_",
                                    "10",  "",      "9",     "\"q\"", "a,b", " a"};
  switch (profile) {
    case Profile::few:
    case Profile::extreme:
    case Profile::high:
    case Profile::low:
      return words[pick(random, words.size())];
    case Profile::wide:
      return std::string(pick(random, 3) * 90, 'x') + fmt::format("{:x}", random());
    case Profile::one:
    case Profile::none:
      break;
    case Profile::spread:
      return fmt::format("card {:04}", pick(random, 300));
    case Profile::many:
      return fmt::format("bay {}", pick(random, many_values));
  }
  return "only";
}

double drawn_real(Random& random, Profile profile) {
  static constexpr std::array ends{0.0, -0.0, 1e300,  -1e300,  1e-300,   -1e-300,
                                   1.5, -2.5, 5e-324, 1.7e308, -1.7e308, 0.1};
  switch (profile) {
    case Profile::few:
    case Profile::spread:
      return (static_cast<double>(pick(random, 9)) - 3) / 4;
    case Profile::wide:
      return static_cast<double>(static_cast<std::int64_t>(random())) / 1024;
    case Profile::extreme:
      return ends[pick(random, ends.size())];
    case Profile::high:
      return 1e15 + static_cast<double>(pick(random, 5));
    case Profile::low:
      return -1e15 - static_cast<double>(pick(random, 5));
    case Profile::many:
      return static_cast<double>(pick(random, many_values)) / 4;
    case Profile::one:
    case Profile::none:
      break;
  }
  return 2.5;
}

constexpr std::int64_t day_length = base::microseconds_per_day;

// A value as its type writes it.
std::string drawn_value(Random& random, Type type, Profile profile) {
  const auto time_of_day = [&] {
    if (profile == Profile::extreme) return chance(random, 50) ? std::int64_t{0} : day_length - 1;
    return static_cast<std::int64_t>(pick(random, 96)) * 900'000'000 + (profile == Profile::wide ? 123'456 : 0);
  };
  switch (type.kind) {
    case TypeKind::boolean:
      return profile != Profile::one && chance(random, 50) ? "true" : "false";
    case TypeKind::integer:
    case TypeKind::decimal:
      return base::exact_text(drawn_units(random, profile), type.scale);
    case TypeKind::real:
      return fmt::format("{}", drawn_real(random, profile));
    case TypeKind::text:
      return drawn_text(random, profile);
    case TypeKind::date:
      return base::date_text(drawn_day(random, profile));
    case TypeKind::datetime:
      return base::datetime_text(drawn_day(random, profile) * day_length + time_of_day());
    case TypeKind::time:
      return base::time_text(time_of_day());
  }
  return "";
}

// As CSV has it, where an empty field is null.
std::string field_of(const std::string& value, Type type) {
  if (type.kind != TypeKind::text) return value;
  std::string field = "\"";
  for (const char c : value) field += c == '"' ? "\"\"" : std::string(1, c);
  return field + "\"";
}

// As a model text has it; nothing where it has no literal for it.
std::optional<std::string> literal_of(const std::string& value, Type type) {
  std::string digits = value;
  std::erase(digits, '.');
  // A sign stands before a number, and this one without it does not fit.
  if (digits == std::to_string(std::numeric_limits<std::int64_t>::min())) return std::nullopt;
  switch (type.kind) {
    case TypeKind::text: {
      std::string written = "\"";
      for (const char c : value) written += (c == '"' || c == '\\' ? "\\" : "") + std::string(1, c);
      return written + "\"";
    }
    case TypeKind::date:
    case TypeKind::datetime:
    case TypeKind::time:
      return fmt::format("{} \"{}\"", to_string(type), value);
    case TypeKind::real:
      return value.find_first_of("en") == std::string::npos ? value + "e0" : value;
    case TypeKind::decimal:
      if (type.scale == 0) return std::nullopt;
      break;
    case TypeKind::integer:
    case TypeKind::boolean:
      break;
  }
  return value;
}

struct DrawnColumn {
  Type type;
  Profile profile = Profile::few;
  unsigned nulls = 0;  // in a hundred rows
  // Whose values it takes, and those that no row there has.
  std::optional<std::pair<std::size_t, std::size_t>> from;
  Type field = type;  // of the fields, of which it may take a part
};

class Drawer {
 public:
  Drawer(Random& random, std::size_t most_rows) : random_(random), most_rows_(most_rows) {}

  RandomModel run() {
    const std::size_t count = 1 + pick(random_, 8);
    model_.has_calendar = chance(random_, 50);
    for (std::size_t t = 0; t < count; ++t) declare(fmt::format("t{}", t));
    if (model_.has_calendar) declare_days();
    // Links go from a table to a later one, and so in no circle.
    for (std::size_t from = 0; from < model_.tables.size(); ++from) {
      for (std::size_t to = from + 1; to < model_.tables.size(); ++to) {
        for (int i = 0; i < 3 && chance(random_, i == 0 ? 45 : 35); ++i) link(from, to);
      }
    }
    add_routes();
    model_.rows.resize(model_.tables.size());
    // Later ones first: foreign keys take what these hold.
    for (std::size_t t = model_.tables.size(); t-- > 0;) fill(t);
    model_.calculated.resize(model_.tables.size());
    model_.rows_clauses.resize(model_.tables.size());
    for (std::size_t t = 0; t < model_.tables.size(); ++t) {
      if (model_.tables[t].keys > 0 && !is_days(t) && chance(random_, 15)) {
        const ColumnInfo& column = model_.tables[t].columns[pick(random_, model_.tables[t].columns.size())];
        if (column.type.kind != TypeKind::real) model_.rows_clauses[t] = " sorted by " + column.name;
      }
      const auto leads =
          std::find_if(linked_.begin(), linked_.end(), [&](const auto& pair) { return pair.second == t; });
      if (leads != linked_.end() && !is_days(t) && chance(random_, 12))
        model_.rows_clauses[t] = " reached from " + model_.tables[leads->first].name + model_.rows_clauses[t];
    }
    add_parameters();
    for (std::size_t i = 0; i < 2 && chance(random_, 25); ++i) add_calculated_table();
    model_.has_real_keys = true;
    return std::move(model_);
  }

 private:
  bool is_days(std::size_t t) const { return model_.has_calendar && model_.tables[t].name == "days"; }

  std::size_t add(std::size_t t, DrawnColumn column) {
    TableInfo& table = model_.tables[t];
    if (is_moderate_ && column.type.is_number()) {
      static constexpr std::array moderate{Profile::few, Profile::spread, Profile::many};
      if (column.profile != Profile::none) column.profile = moderate[pick(random_, moderate.size())];
      column.type.scale = std::min<std::uint8_t>(column.type.scale, 2);
      column.field = column.type;
    }
    // Units of 10^-18: a few of them leave 64 bits.
    model_.is_extreme = model_.is_extreme || column.type.scale == base::max_scale;
    table.columns.push_back({fmt::format("{}c{}", table.name, table.columns.size()), column.type});
    drawn_[t].push_back(column);
    return table.columns.size() - 1;
  }

  void declare(const std::string& name) {
    const std::size_t t = model_.tables.size();
    model_.tables.push_back({name, {}, pick(random_, 3), {}});
    drawn_.emplace_back();
    for (std::size_t k = 0; k < model_.tables[t].keys; ++k) {
      Type type = drawn_type(random_);
      while (type.kind == TypeKind::real || type.kind == TypeKind::boolean) type = drawn_type(random_);
      add(t, {type, chance(random_, 40) ? Profile::wide : Profile::spread, 0, {}});
    }
    for (std::size_t c = 2 + pick(random_, 4); c > 0; --c) {
      static constexpr std::array<unsigned, 4> nulls{0, 12, 12, 50};
      const std::size_t column =
          add(t, {drawn_type(random_), drawn_profile(random_), nulls[pick(random_, nulls.size())], {}});
      if (chance(random_, 15)) take_part(t, column);
      const std::size_t other = pick(random_, column + 1);
      if (other != column && model_.tables[t].columns[other].attributes.empty() && chance(random_, 12))
        model_.tables[t].columns[column].attributes += " sorted by " + model_.tables[t].columns[other].name;
    }
  }

  // Its fields hold more than it takes.
  void take_part(std::size_t t, std::size_t c) {
    ColumnInfo& column = model_.tables[t].columns[c];
    std::string part;
    if (column.type.kind == TypeKind::date || column.type.kind == TypeKind::time) {
      part = to_string(column.type);
      drawn_[t][c].field = {TypeKind::datetime, 0};
    } else if (column.type.kind == TypeKind::decimal && column.type.scale < 10) {
      part = "round";
      drawn_[t][c].field = {TypeKind::decimal, static_cast<std::uint8_t>(column.type.scale + 1 + pick(random_, 6))};
    } else {
      return;
    }
    column.attributes = fmt::format(" from {}(\"{}\")", part, column.name);
  }

  // Some of the literals become parameters of their value.
  void add_parameters() {
    for (auto& [type, literals] : model_.literals) {
      if (literals.empty() || !chance(random_, 15)) continue;
      const std::string name = fmt::format("p{}", model_.parameters.size());
      model_.parameters.push_back(fmt::format("param {} = {}", name, literals.back()));
      literals.push_back(name);
    }
  }

  void add_calculated_table() {
    const std::size_t from = pick(random_, drawn_.size());
    const ColumnInfo& column = model_.tables[from].columns[pick(random_, model_.tables[from].columns.size())];
    TableInfo table{fmt::format("made{}", model_.tables.size()), {{column.name, column.type}}, 0, {}};
    table.rows = fmt::format("distinct({}.{})", model_.tables[from].name, column.name);
    model_.tables.push_back(std::move(table));
    model_.rows.emplace_back();
    model_.calculated.emplace_back();
    model_.rows_clauses.emplace_back();
  }

  void declare_days() {
    const std::size_t t = model_.tables.size();
    model_.tables.push_back({"days", {}, 1, {}});
    drawn_.emplace_back();
    for (const ColumnInfo& column : {ColumnInfo{"day", date}, ColumnInfo{"year", integer}, ColumnInfo{"month", integer},
                                     ColumnInfo{"weekday", integer}}) {
      model_.tables[t].columns.push_back(column);
      drawn_[t].push_back({column.type, Profile::few, 0, {}});
    }
    if (chance(random_, 20)) drawn_[t][0].profile = Profile::extreme;
  }

  // By a key, or by several columns; the first link between two tables has no role, and some take a column that another
  // goes by already.
  void link(std::size_t from, std::size_t to) {
    const bool plain =
        std::none_of(linked_.begin(), linked_.end(), [&](const auto& pair) { return pair == std::pair(from, to); });
    std::vector<std::size_t> target;
    if (model_.tables[to].keys > 0 && chance(random_, 80)) {
      target = {pick(random_, model_.tables[to].keys)};
    } else {
      for (std::size_t c = 0; c < model_.tables[to].columns.size() && target.size() < 2; ++c) {
        const Type type = model_.tables[to].columns[c].type;
        if (type.kind != TypeKind::real && drawn_[to][c].field == type) target.push_back(c);
      }
      if (target.size() < 2) return;
      composite_.insert(to);
    }
    linked_.emplace_back(from, to);
    std::string mine;
    std::string theirs;
    for (const std::size_t c : target) {
      const Type type = model_.tables[to].columns[c].type;
      std::optional<std::size_t> column;
      for (std::size_t own = model_.tables[from].keys; own < model_.tables[from].columns.size(); ++own) {
        if (drawn_[from][own].from && model_.tables[from].columns[own].type == type && chance(random_, 50))
          column = own;
      }
      if (!column || is_days(from))
        column = add(from, {type, Profile::few, chance(random_, 50) ? 15U : 0U, std::pair(to, c)});
      mine += (mine.empty() ? "" : ", ") + model_.tables[from].columns[*column].name;
      theirs += (theirs.empty() ? "" : ", ") + model_.tables[to].columns[c].name;
    }
    if (target.size() > 1) {
      mine = "(" + mine + ")";
      theirs = "(" + theirs + ")";
    }
    std::string written = fmt::format("{}.{} -> {}.{}", model_.tables[from].name, mine, model_.tables[to].name, theirs);
    if (!plain) {
      const std::string role = fmt::format("role{}", model_.roles.size());
      written += " as " + role;
      model_.roles.push_back({role, from, to});
    } else {
      plain_.emplace_back(from, to);
    }
    model_.links.push_back(written);
  }

  void add_routes() {
    for (std::size_t from = model_.tables.size(); from-- > 0;) {
      std::vector<Route>& routes = model_.tables[from].routes;
      const auto add_hop = [&](const std::string& name, std::size_t to) {
        routes.push_back({name, to});
        for (const Route& further : model_.tables[to].routes) {
          if (std::count(further.path.begin(), further.path.end(), '.') < 2)
            routes.push_back({name + "." + further.path, further.table});
        }
      };
      for (const auto& [a, b] : plain_) {
        if (a == from) add_hop(model_.tables[b].name, b);
      }
      for (const Role& role : model_.roles) {
        if (role.from == from) add_hop(role.name, role.to);
      }
    }
  }

  void fill(std::size_t t) {
    const TableInfo& table = model_.tables[t];
    static constexpr std::array ends{4095, 4096, 4097, 8192, 8193, 20000};
    std::size_t wanted = pick(random_, most_rows_ + 1);
    if (most_rows_ > 10 * std::size_t{ends.back()}) {
      // Few of the largest size: tables of all sizes together.
      wanted = most_rows_ >> pick(random_, 10);
    } else if (const auto end = static_cast<std::size_t>(ends[pick(random_, ends.size())]); end <= most_rows_) {
      wanted = end;  // around the ends of blocks, where there are several
    }
    if (chance(random_, 8)) wanted = pick(random_, 2);
    std::vector<std::set<std::string>> keys(table.keys);
    std::set<std::string> pairs;
    for (std::size_t i = 0; i < wanted; ++i) {
      std::vector<std::string> row;
      for (std::size_t c = 0; c < table.columns.size(); ++c) row.push_back(field(t, c));
      if (is_days(t)) {
        row[1] = row[0].substr(0, 4);
        row[2] = std::to_string(std::stoi(row[0].substr(5, 2)));
        row[3] = std::to_string(pick(random_, 7));
      }
      bool unique = true;
      for (std::size_t k = 0; k < table.keys; ++k) unique = unique && !row[k].empty() && !keys[k].contains(row[k]);
      // What a link of several columns leads to differs in them.
      if (composite_.contains(t)) {
        std::string pair;
        bool has_null = false;  // then it leads nowhere, and may stand there again
        for (std::size_t c = 0, taken = 0; c < table.columns.size() && taken < 2; ++c) {
          if (table.columns[c].type.kind == TypeKind::real || drawn_[t][c].field != table.columns[c].type) continue;
          pair += row[c] + "|";
          has_null = has_null || row[c].empty();
          ++taken;
        }
        unique = unique && (has_null || pairs.insert(pair).second);
      }
      if (!unique) continue;
      for (std::size_t k = 0; k < table.keys; ++k) keys[k].insert(row[k]);
      model_.rows[t].push_back(std::move(row));
    }
  }

  std::string field(std::size_t t, std::size_t c) {
    const DrawnColumn& column = drawn_[t][c];
    if (column.profile == Profile::none || chance(random_, column.nulls)) return "";
    if (column.from && chance(random_, 85)) {
      const auto& rows = model_.rows[column.from->first];
      if (!rows.empty()) return rows[pick(random_, rows.size())][column.from->second];
    }
    const std::string value = drawn_value(random_, column.field, column.profile);
    if (column.profile == Profile::wide || column.profile == Profile::extreme || column.profile == Profile::high ||
        column.profile == Profile::low) {
      model_.is_extreme = model_.is_extreme || column.type.is_exact_number();
      model_.has_far_reals = model_.has_far_reals || column.type.kind == TypeKind::real;
    }
    if (const auto literal = literal_of(value, column.field); literal && column.field == column.type) {
      auto& literals = model_.literals[to_string(column.type)];
      if (literals.size() < 12) literals.push_back(*literal);
    }
    return field_of(value, column.type);
  }

  Random& random_;
  std::size_t most_rows_;
  RandomModel model_;
  // No numbers at the ends of their types, which SQL's of 64 bits can't add up.
  bool is_moderate_ = chance(random_, 40);
  std::vector<std::vector<DrawnColumn>> drawn_;
  std::vector<std::pair<std::size_t, std::size_t>> linked_;
  std::vector<std::pair<std::size_t, std::size_t>> plain_;
  std::set<std::size_t> composite_;
};

}  // namespace

RandomModel drawn_model(Random& random, std::size_t most_rows) {
  return Drawer(random, most_rows).run();
}

}  // namespace juniper::test
