#include "juniper/scan.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <functional>
#include <numeric>
#include <set>

#include "base/calendar.h"
#include "base/failure.h"
#include "base/files.h"
#include "base/format.h"
#include "base/output_file.h"
#include "base/shown_text.h"
#include "juniper/format.h"
#include "language/lexer.h"
#include "scanning/days_of_moments.h"
#include "scanning/found_table.h"
#include "scanning/package.h"
#include "scanning/wide_links.h"
#include "store/resolve_link.h"

namespace juniper {

namespace {

namespace fs = std::filesystem;
using namespace scanning;
using language::written_declared_name;
using language::written_name;
using language::written_text;

// A comment of a text, on a line of its own: whatever a file or its data say, it stays in there.
std::string comment_line(std::string_view text) {
  return "# " + base::one_line(text) + "\n";
}

// A link that the data could bear.
struct FoundLink {
  std::size_t from = 0;
  std::size_t column = 0;
  std::size_t to = 0;
  std::uint64_t keys = 0;     // rows of the many side with a key
  std::uint64_t matched = 0;  // of them
  bool declared = false;
  bool by_values = false;  // its names do not speak of each other
  std::string role;

  double share() const { return keys == 0 ? 0 : static_cast<double>(matched) / static_cast<double>(keys); }
};

// "stations" as "station", "cities" as "city".
std::string singular(const std::string& name) {
  if (name.ends_with("ies")) return name.substr(0, name.size() - 3) + "y";
  if (name.ends_with("ses") || name.ends_with("xes")) return name.substr(0, name.size() - 2);
  return name.ends_with("s") && !name.ends_with("ss") ? name.substr(0, name.size() - 1) : name;
}

// True if a column's name speaks of a key of another table: "bay_id" or "home_bay_id" of bays.bay_id, "bay" of bays.id.
bool speaks_of(const std::string& column, const std::string& table, const std::string& key) {
  if (column == key) return key != "id";
  const std::string one = singular(table);
  for (const std::string& name : {key == "id" ? one + "_id" : key, one, one + "_" + key, one + "_id", one + "_code"}) {
    if (column == name || column.ends_with("_" + name)) return true;
  }
  return false;
}

// Whether a file that is no table may hold data that somebody looks for: texts and stores of ours, and hidden files, do
// not.
bool is_data(const std::string& name) {
  return !name.starts_with('.') && !name.ends_with(".ridge") && !name.ends_with(".jrs");
}

// Whether the values of a column are found among those of a key, and so many and such that this is no chance: most of
// them are there, and they are texts, or whole numbers of which the key leaves out so many that as many numbers drawn from
// the same range would hardly all be there.
bool leads_by_values(const store::Column& many, const store::Column& one) {
  constexpr std::uint64_t fewest_texts = 3;
  constexpr std::uint64_t most_looked_at = 2000;
  constexpr double least_share = 0.9;
  constexpr double chance = 1e-6;
  const bool is_text = many.type.kind == TypeKind::text;
  if (many.type != one.type || (!is_text && many.type.kind != TypeKind::integer)) return false;
  if (many.distinct < fewest_texts || many.distinct > one.distinct * 2) return false;
  std::vector<std::uint64_t> codes;  // of values that there are, at even distances
  if (many.layout == store::Layout::offset) {
    for (const std::uint64_t code : many.codes.decoded()) {
      if (code != many.null_code) codes.push_back(code);
    }
    std::sort(codes.begin(), codes.end());
    codes.erase(std::unique(codes.begin(), codes.end()), codes.end());
  } else {
    codes.resize(many.distinct);
    std::iota(codes.begin(), codes.end(), 0U);
  }
  const std::uint64_t step = codes.size() / most_looked_at + 1;
  std::uint64_t looked_at = 0;
  std::uint64_t there = 0;
  for (std::size_t i = 0; i < codes.size(); i += step, ++looked_at)
    there += one.code_of(many.value_of(codes[i])) ? 1 : 0;
  if (static_cast<double>(there) < least_share * static_cast<double>(looked_at)) return false;
  if (is_text) return true;
  const Value least = many.value_of(codes.front());
  const Value most = many.value_of(codes.back());
  const double range = static_cast<double>(most.exact() - least.exact()) + 1;
  std::uint64_t within = 0;
  for (std::uint64_t row = 0; row < one.rows; ++row) {
    const Value key = one.at(row);
    within += !key.is_null() && key.exact() >= least.exact() && key.exact() <= most.exact() ? 1 : 0;
  }
  const double density = std::min(1.0, static_cast<double>(within) / range);
  return static_cast<double>(there) * std::log(density) < std::log(chance);
}

class Scanner {
 public:
  Scanner(fs::path text_folder, const Options& options) : text_folder_(std::move(text_folder)), options_(options) {}

  Result<Scan> run(const std::vector<std::string>& paths) {
    Diagnostics errors;
    const auto files = find(paths, errors);
    if (!files) return tl::unexpected(files.error());
    std::set<std::string> names;
    for (const TableFiles& table : *files) {
      auto read = read_found_table(table, options_);
      if (!read) {
        leave_out(table.files.front(), read.error(), errors);
        continue;
      }
      if (read->columns.empty()) {
        left_out_.push_back(
            fmt::format("{} is left out: it has no column with a name of its own", table.pattern.string()));
        continue;
      }
      const std::string name = read->name;
      for (int n = 2; !names.insert(read->name).second; ++n) read->name = fmt::format("{}_{}", name, n);
      tables_.push_back(std::move(*read));
    }
    if (!errors.empty()) return tl::unexpected(std::move(errors));
    if (tables_.empty()) {
      for (const std::string& why : left_out_) {
        const Diagnostics error = base::error("JR-512", why, "rename the file, or its columns");
        errors.insert(errors.end(), error.begin(), error.end());
      }
      return tl::unexpected(std::move(errors));
    }
    for (std::size_t t = 0; t < tables_.size(); ++t) keys_.push_back(find_key(t));
    find_calendar();
    if (calendar_ != none) {
      for (std::size_t t = 0; t < tables_.size(); ++t) {
        if (t != calendar_) add_days_of_moments(tables_[t], column(calendar_, *keys_[calendar_]).data);
      }
    }
    find_links();
    find_wide_links();
    if (calendar_ == none) generate_calendar();
    return write();
  }

 private:
  // The files of tables, from files, folders and packages.
  Result<std::vector<TableFiles>> find(const std::vector<std::string>& paths, Diagnostics& errors) {
    std::vector<TableFiles> tables;
    std::vector<fs::path> files;
    for (const std::string& path : paths) {
      const fs::path package = fs::is_directory(path) ? fs::path(path) / "datapackage.json" : fs::path(path);
      if (fs::is_regular_file(package) && is_package(package)) {
        auto found = read_package(package);
        if (!found) return tl::unexpected(found.error());
        std::move(found->begin(), found->end(), std::back_inserter(tables));
      } else if (fs::is_directory(path)) {
        for (const fs::path& entry : base::entries_of(path)) {
          const std::string name = entry.filename().string();
          if (may_be_table(name)) {
            files.push_back(entry);
            in_folders_.insert(entry);
          } else if (fs::is_regular_file(entry) && is_data(name)) {
            left_out_.push_back(
                fmt::format("{} is left out: by its name it is of no kind that is read here", entry.string()));
          }
        }
      } else {
        files.emplace_back(path);
      }
    }
    auto grouped =
        group_files(files, [&](const fs::path& path, const Diagnostics& why) { leave_out(path, why, errors); });
    std::move(grouped.begin(), grouped.end(), std::back_inserter(tables));
    if (tables.empty() && errors.empty() && left_out_.empty()) {
      return tl::unexpected(
          base::error("JR-512", "there is nothing to scan here",
                      "name a folder with files of CSV, Parquet, JSON, spreadsheets or SQLite, or the "
                      "files"));
    }
    return tables;
  }

  // A file of a folder that can't be read does not stop the others; one that was named is an error.
  void leave_out(const fs::path& file, const Diagnostics& why, Diagnostics& errors) {
    if (!in_folders_.contains(file)) {
      errors.insert(errors.end(), why.begin(), why.end());
      return;
    }
    std::string place = why.front().place.file.empty() ? file.string() : why.front().place.file;
    if (why.front().place.line != 0) place += fmt::format(":{}", why.front().place.line);
    left_out_.push_back(fmt::format("{} is left out, as it can't be read: {}", place, why.front().message));
  }

  const FoundColumn& column(std::size_t table, std::size_t number) const { return tables_[table].columns[number]; }

  // The column of a table that its rows are told apart by: the declared one, one whose name says so, or the first of
  // all.
  std::optional<std::size_t> find_key(std::size_t t) const {
    const FoundTable& table = tables_[t];
    std::optional<std::size_t> best;
    int best_rank = 0;
    for (std::size_t c = 0; c < table.columns.size(); ++c) {
      const FoundColumn& candidate = table.columns[c];
      const TypeKind kind = candidate.data.type.kind;
      if (!candidate.could_be_key() || (kind != TypeKind::integer && kind != TypeKind::text && kind != TypeKind::date))
        continue;
      int rank = c == 0 ? 2 : 0;
      const std::string one = singular(table.name);
      if (candidate.name == "id" || candidate.name == one || candidate.name.starts_with(one + "_")) rank = 3;
      if (table.files.key.size() == 1 && table.files.key[0] == candidate.header) rank = 4;
      if (rank > best_rank) {
        best = c;
        best_rank = rank;
      }
    }
    return best;
  }

  // A table whose key is a date, with numbers that are its years, quarters or months.
  void find_calendar() {
    std::size_t most = 0;
    for (std::size_t t = 0; t < tables_.size(); ++t) {
      if (!keys_[t] || column(t, *keys_[t]).data.type.kind != TypeKind::date) continue;
      const std::vector<std::size_t> periods = periods_of(t);
      if (periods.size() <= most) continue;
      most = periods.size();
      calendar_ = t;
      periods_ = periods;
    }
  }

  std::vector<std::size_t> periods_of(std::size_t t) const {
    const store::Column& day = column(t, *keys_[t]).data;
    const std::array<std::function<std::int64_t(std::chrono::year_month_day)>, 3> parts{
        [](auto d) { return std::int64_t{static_cast<int>(d.year())}; },
        [](auto d) { return std::int64_t{(static_cast<unsigned>(d.month()) + 2) / 3}; },
        [](auto d) { return std::int64_t{static_cast<unsigned>(d.month())}; }};
    std::vector<std::size_t> periods;
    for (const auto& part : parts) {
      for (std::size_t c = 0; c < tables_[t].columns.size(); ++c) {
        const store::Column& data = column(t, c).data;
        if (data.type.kind != TypeKind::integer || data.nulls != 0) continue;
        bool same = data.rows > 0;
        for (std::uint64_t row = 0; row < data.rows && same; ++row) {
          same = part(base::civil_from_days(day.exact_of(day.codes.at(row)))) == data.exact_of(data.codes.at(row));
        }
        // In January, months are as quarters are.
        if (same && std::find(periods.begin(), periods.end(), c) == periods.end()) periods.push_back(c);
      }
    }
    // A text for each month is a period as well.
    const std::vector<std::size_t> numbers = periods;
    for (std::size_t c = 0; c < tables_[t].columns.size(); ++c) {
      const auto order = order_of(t, c);
      if (order && std::find(numbers.begin(), numbers.end(), *order) != numbers.end()) periods.push_back(c);
    }
    return periods;
  }

  // The column of small numbers that a column of a few texts goes along with, one to one, and could be sorted by.
  std::optional<std::size_t> order_of(std::size_t t, std::size_t c) const {
    const store::Column& text = column(t, c).data;
    constexpr std::uint64_t most = 60;
    if (text.type.kind != TypeKind::text || text.distinct < 3 || text.distinct > most || text.nulls != 0) return {};
    if (text.distinct * 2 > text.rows) return {};  // a name of each row, more than of a few things
    for (std::size_t other = 0; other < tables_[t].columns.size(); ++other) {
      const store::Column& number = column(t, other).data;
      if (number.type.kind != TypeKind::integer || number.distinct != text.distinct || number.nulls != 0) continue;
      if (number.null_code > 4 * most) continue;
      std::vector<std::optional<std::uint64_t>> partner(text.distinct);
      bool same = true;
      for (std::uint64_t row = 0; row < text.rows && same; ++row) {
        auto& known = partner[text.codes.at(row)];
        const std::uint64_t code = number.codes.at(row);
        same = !known || *known == code;
        known = code;
      }
      if (same) return other;
    }
    return {};
  }

  // --- links ---

  std::optional<FoundLink> look_at(std::size_t from, std::size_t c, std::size_t to) const {
    const store::Column* const many = &column(from, c).data;
    const store::Column* const one = &column(to, *keys_[to]).data;
    if (many->type != one->type || many->distinct == 0) return {};
    FoundLink link;
    link.from = from;
    link.column = c;
    link.to = to;
    const store::StoredLink resolved = store::resolve_link({&many, 1}, {&one, 1});
    link.keys = many->rows - many->nulls;
    link.matched = many->rows - resolved.unmatched;
    return link;
  }

  bool declares(std::size_t from, std::size_t c, std::size_t to) const {
    for (const TableFiles::Reference& reference : tables_[from].files.references) {
      if (reference.columns.size() == 1 && reference.columns[0] == column(from, c).header &&
          reference.table == tables_[to].files.name && reference.to[0] == column(to, *keys_[to]).header)
        return true;
    }
    return false;
  }

  void find_links() {
    for (std::size_t from = 0; from < tables_.size(); ++from) {
      for (std::size_t c = 0; c < tables_[from].columns.size(); ++c) {
        std::optional<FoundLink> best;
        for (std::size_t to = 0; to < tables_.size(); ++to) {
          if (to == from || !keys_[to]) continue;
          const FoundColumn& many = column(from, c);
          const bool is_day = to == calendar_ && many.data.type.kind == TypeKind::date;
          const bool declared = declares(from, c, to);
          const bool is_named =
              declared || is_day || speaks_of(many.name, tables_[to].name, column(to, *keys_[to]).name);
          // A column that tells its own table's rows apart is no key into another one, unless its name says so.
          if (!is_named && (many.could_be_key() || !leads_by_values(many.data, column(to, *keys_[to]).data))) continue;
          // Of two tables with the same key, the smaller one is the one side.
          if (keys_[from] == c &&
              (tables_[from].rows < tables_[to].rows || (tables_[from].rows == tables_[to].rows && from < to)))
            continue;
          auto link = look_at(from, c, to);
          if (!link) continue;
          link->declared = declared;
          link->by_values = !is_named;
          if (is_day && !declared && link->share() < 0.5) continue;  // days of another time
          // What names say goes before what values seem to say.
          const auto rank = [](const FoundLink& found) { return std::pair(!found.by_values, found.share()); };
          if (!best || rank(*link) > rank(*best)) best = link;
        }
        if (best) links_.push_back(*best);
      }
    }
    name_roles();
  }

  // Links over several columns, where one column alone leads nowhere.
  void find_wide_links() {
    for (std::size_t to = 0; to < tables_.size(); ++to) {
      if (keys_[to]) continue;
      for (std::size_t from = 0; from < tables_.size(); ++from) {
        // Two tables of the same rows are not each other's sides.
        if (from == to || tables_[from].rows <= tables_[to].rows) continue;
        if (auto link = find_wide_link(tables_[from], tables_[to])) wide_links_.push_back({from, to, std::move(*link)});
      }
    }
  }

  // Only the first link between two tables needs no role: the one whose column is called as the key is.
  void name_roles() {
    std::stable_sort(links_.begin(), links_.end(), [&](const FoundLink& a, const FoundLink& b) {
      const auto rank = [&](const FoundLink& link) {
        return std::tuple(link.from, column(link.from, link.column).name != column(link.to, *keys_[link.to]).name);
      };
      return rank(a) < rank(b);
    });
    std::set<std::pair<std::size_t, std::size_t>> linked;
    std::set<std::string> taken;
    for (const FoundTable& table : tables_) taken.insert(table.name);
    for (FoundLink& link : links_) {
      if (!is_sure(link) || linked.insert({link.from, link.to}).second) continue;
      std::string stem = column(link.from, link.column).name;
      const std::string& key = column(link.to, *keys_[link.to]).name;
      if (stem.ends_with("_" + key)) stem = stem.substr(0, stem.size() - key.size() - 1);
      link.role = stem + "_" + tables_[link.to].name;
      while (!taken.insert(link.role).second) link.role += "_2";
    }
  }

  // --- a calendar that no file is ---

  // Of tables that no link leads to, those with dates; where they have moments alone, with the days of these.
  void generate_calendar() {
    std::set<std::size_t> facts;
    for (std::size_t t = 0; t < tables_.size(); ++t) facts.insert(t);
    for (const FoundLink& link : links_) {
      if (is_sure(link)) facts.erase(link.to);
    }
    for (const FoundWideLink& found : wide_links_) facts.erase(found.to);
    for (const std::size_t t : facts) {
      if (days_in(t).empty()) add_all_days(tables_[t]);
      for (const std::size_t c : days_in(t)) {
        FoundLink& link = generated_links_.emplace_back();
        link.from = t;
        link.column = c;
      }
    }
    if (generated_links_.empty()) return;
    std::set<std::string> taken;
    for (const FoundTable& table : tables_) taken.insert(table.name);
    for (const FoundLink& link : links_) taken.insert(link.role);
    while (!taken.insert(days_).second) days_ += "_2";
    std::set<std::size_t> linked;
    for (FoundLink& link : generated_links_) {
      if (linked.insert(link.from).second) continue;
      std::string stem = column(link.from, link.column).name;
      if (stem.ends_with("_day")) stem.resize(stem.size() - 4);
      link.role = stem + "_" + days_;
      while (!taken.insert(link.role).second) link.role += "_2";
    }
  }

  // Columns of dates that may make a calendar: one of a few centuries, or somebody wrote 9999 for "never".
  std::vector<std::size_t> days_in(std::size_t t) const {
    std::vector<std::size_t> days;
    for (std::size_t c = 0; c < tables_[t].columns.size(); ++c) {
      const store::Column& data = column(t, c).data;
      if (data.type.kind == TypeKind::date && data.distinct != 0 &&
          data.most.exact() - data.least.exact() < longest_calendar)
        days.push_back(c);
    }
    return days;
  }

  static void add_all_days(FoundTable& table) {
    for (const FoundColumn& found : table.columns) {
      const store::Column& moments = found.data;
      if (moments.type.kind != TypeKind::datetime || moments.distinct == 0) continue;
      const auto day_of = [](const Value& moment) {
        return base::floor_divide(static_cast<std::int64_t>(moment.exact()), base::microseconds_per_day);
      };
      const std::int64_t first = day_of(moments.least);
      const std::int64_t last = day_of(moments.most);
      if (last - first >= longest_calendar) continue;
      const auto count = static_cast<std::size_t>(last - first + 1);
      const store::Column days = store::encode_column(source::column_of(
          {TypeKind::date, 0}, count, [&](std::size_t begin, std::size_t end, source::PieceValues& values) {
            for (std::size_t i = begin; i < end; ++i) {
              values.is_null.push_back(0);
              values.exact.push_back(first + static_cast<std::int64_t>(i));
            }
          }));
      return add_days_of_moments(table, days);
    }
  }

  std::string generated_calendar() const {
    if (generated_links_.empty()) return "";
    std::string columns;
    std::string text;
    for (const FoundLink& link : generated_links_) {
      const std::string name =
          written_name(tables_[link.from].name) + "." + written_name(column(link.from, link.column).name);
      columns += (columns.empty() ? "" : ", ") + name;
      text +=
          fmt::format("link {} -> {}.day{}\n", name, days_, link.role.empty() ? "" : " as " + written_name(link.role));
    }
    return fmt::format(
        "# no file is a calendar: this makes one, of the whole years in which these dates lie\n"
        "table {} = every day of ({})\n\n{}",
        days_, columns, text);
  }

  // Whether a link is written as one, or as a comment.
  static bool is_sure(const FoundLink& link) { return link.declared || link.share() >= (link.by_values ? 0.9 : 0.5); }

  // --- the text ---

  std::string source_of(const FoundTable& table) const {
    const fs::path beside = fs::absolute(table.files.pattern).lexically_relative(fs::absolute(text_folder_));
    return (beside.empty() ? table.files.pattern : beside).lexically_normal().string();
  }

  static std::string format_of(Type type) {
    if (type.kind != TypeKind::decimal) return "";
    return fmt::format("  format \"#,##0.{}\"", std::string(type.scale, '0'));
  }

  std::string table_text(std::size_t t) const {
    const FoundTable& table = tables_[t];
    std::string text;
    for (const std::string& comment : table.comments) text += comment_line(comment);
    if (!keys_[t]) {
      const auto wide =
          std::find_if(wide_links_.begin(), wide_links_.end(), [&](const auto& found) { return found.to == t; });
      text += wide == wide_links_.end()
                  ? "# no column tells all rows apart\n"
                  : comment_line(fmt::format("its rows are told apart by {}", fmt::join(one_side_of(*wide), ", ")));
    }
    if (t == calendar_) {
      const store::Column& day = column(t, *keys_[t]).data;
      const auto span = static_cast<std::uint64_t>(day.most.exact() - day.least.exact()) + 1;
      if (span > day.rows)
        text += fmt::format("# {} days are missing between the first and the last\n", span - day.rows);
    }
    text += fmt::format("table {} from {} {}", written_name(table.name), base::name_of(table.files.kind),
                        written_text(source_of(table)));
    const std::string options = base::details_text(
        {table.files.kind, "", table.files.selection, table.delimiter, table.spelling, table.encoding});
    if (!options.empty()) text += " " + options;
    text += " {\n";
    for (std::size_t c = 0; c < table.columns.size(); ++c) {
      const FoundColumn& found = table.columns[c];
      text += fmt::format("  {}{} {}", keys_[t] == c ? "key " : "", written_declared_name(found.name),
                          to_string(found.data.type));
      if (found.part == base::FieldPart::date) {
        text += fmt::format(" from date({})", written_text(found.header));
      } else if (found.header != found.name) {
        text += " from " + written_text(found.header);
      }
      text += format_of(found.data.type);
      if (const auto order = order_of(t, c)) text += " sorted by " + written_name(column(t, *order).name);
      if (!found.comment.empty())
        text += "  " + base::one_line(fmt::format("# {}: {}", to_string(found.data.type), found.comment));
      text += "\n";
    }
    return text + "}\n";
  }

  // A link over several columns.
  struct FoundWideLink {
    std::size_t from = 0;
    std::size_t to = 0;
    WideLink link;
  };

  std::vector<std::string> one_side_of(const FoundWideLink& found) const {
    std::vector<std::string> names;
    for (const auto& [many, one] : found.link.columns) names.push_back(written_name(column(found.to, one).name));
    return names;
  }

  std::string wide_link_text(const FoundWideLink& found) const {
    std::vector<std::string> names;
    for (const auto& [many, one] : found.link.columns) names.push_back(written_name(column(found.from, many).name));
    std::string text;
    if (found.link.matched < found.link.keys) {
      text += fmt::format("# {} of {} rows carry a key that is not there\n",
                          base::grouped(found.link.keys - found.link.matched), base::grouped(found.link.keys));
    }
    return text + fmt::format("link {}.({}) -> {}.({})\n", written_name(tables_[found.from].name),
                              fmt::join(names, ", "), written_name(tables_[found.to].name),
                              fmt::join(one_side_of(found), ", "));
  }

  std::string link_text(const FoundLink& link) const {
    const std::string from =
        written_name(tables_[link.from].name) + "." + written_name(column(link.from, link.column).name);
    const std::string to =
        written_name(tables_[link.to].name) + "." + written_name(column(link.to, *keys_[link.to]).name);
    std::string text;
    if (link.matched < link.keys) {
      text += fmt::format("# {} of {} rows carry a key that is not there\n", base::grouped(link.keys - link.matched),
                          base::grouped(link.keys));
    }
    if (link.by_values) text += "# told by the values alone: the names do not speak of each other\n";
    if (!is_sure(link)) text += "# perhaps: ";
    text += fmt::format("link {} -> {}", from, to);
    if (!link.role.empty()) text += " as " + written_name(link.role);
    return text + "\n";
  }

  // Foreign keys of a description that are no link here (over several columns, within one table, to what is no key).
  std::string references_not_taken() const {
    std::string text;
    for (std::size_t t = 0; t < tables_.size(); ++t) {
      for (const TableFiles::Reference& reference : tables_[t].files.references) {
        const bool taken = std::any_of(links_.begin(), links_.end(), [&](const FoundLink& link) {
          return link.declared && link.from == t && reference.columns.size() == 1 &&
                 column(t, link.column).header == reference.columns[0];
        });
        if (!taken)
          text += comment_line(fmt::format("not taken over: a foreign key of {} ({}) to {} ({})", tables_[t].name,
                                           fmt::join(reference.columns, ", "), reference.table,
                                           fmt::join(reference.to, ", ")));
      }
    }
    return text;
  }

  Result<Scan> write() const {
    Scan made;
    std::string text = "# Proposed from the files. What was doubtful stands in comments.\n\n";
    std::set<std::size_t> facts;
    for (std::size_t t = 0; t < tables_.size(); ++t) {
      text += table_text(t) + "\n";
      facts.insert(t);
    }
    for (const std::string& file : left_out_) text += comment_line(file);
    text += references_not_taken();
    text += generated_calendar();
    for (const FoundLink& link : links_) {
      text += link_text(link);
      if (is_sure(link)) facts.erase(link.to);
    }
    for (const FoundWideLink& found : wide_links_) {
      text += wide_link_text(found);
      facts.erase(found.to);
    }
    if (calendar_ != none && !periods_.empty()) {
      std::string periods;
      for (const std::size_t c : periods_)
        periods += (periods.empty() ? "" : ", ") + written_name(column(calendar_, c).name);
      text += fmt::format("calendar {}.{} periods ({})\n", written_name(tables_[calendar_].name),
                          written_name(column(calendar_, *keys_[calendar_]).name), periods);
    }
    text += "\n";
    std::set<std::string> taken;
    for (const FoundTable& table : tables_) taken.insert(table.name);
    for (const FoundLink& link : links_) taken.insert(link.role);
    for (const FoundLink& link : generated_links_) taken.insert(link.role);
    if (!generated_links_.empty()) taken.insert(days_);
    for (const std::size_t t : facts) {
      std::string name = "n_" + tables_[t].name;
      while (!taken.insert(name).second) name += "_2";
      text +=
          fmt::format("measure {} = count({})  format \"#,##0\"\n", written_name(name), written_name(tables_[t].name));
    }
    auto layout = canonical_layout(text, "the proposed text");
    if (!layout) return tl::unexpected(layout.error());
    made.text = std::move(*layout);
    for (std::size_t t = 0; t < tables_.size(); ++t) {
      const auto starts = std::count_if(links_.begin(), links_.end(),
                                        [&](const FoundLink& link) { return link.from == t && is_sure(link); }) +
                          std::count_if(wide_links_.begin(), wide_links_.end(),
                                        [&](const FoundWideLink& found) { return found.from == t; });
      made.tables.push_back({tables_[t].name, source_of(tables_[t]), tables_[t].files.files.size(), tables_[t].rows,
                             tables_[t].columns.size(), keys_[t] ? column(t, *keys_[t]).name : "",
                             static_cast<std::uint64_t>(starts)});
    }
    return made;
  }

  static constexpr std::size_t none = ~std::size_t{0};
  fs::path text_folder_;
  const Options& options_;
  std::vector<FoundTable> tables_;
  std::set<fs::path> in_folders_;      // files that nobody has named
  std::vector<std::string> left_out_;  // files, and why
  std::vector<std::optional<std::size_t>> keys_;
  std::size_t calendar_ = none;
  std::vector<std::size_t> periods_;
  std::vector<FoundLink> links_;
  std::vector<FoundWideLink> wide_links_;
  static constexpr std::int64_t longest_calendar = 300 * 366;  // days
  std::string days_ = "days";                                  // a calendar that no file is
  std::vector<FoundLink> generated_links_;                     // to it
};

}  // namespace

Result<Scan> scan(const std::vector<std::string>& paths, const std::string& text_folder, const Options& options) {
  return base::guarded([&]() -> Result<Scan> { return Scanner(text_folder, options).run(paths); });
}

Result<void> write_new(const Scan& scan, const std::string& path) {
  return base::guarded([&] { return base::write_new(path, scan.text, "JR-514"); });
}

}  // namespace juniper
