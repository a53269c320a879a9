// The Star Schema Benchmark: its 13 queries over its own data, beside the published statements in the peer.
// usage: bench_ssb FOLDER SCALE PEER REPEATS [QUERY…]
//
// Schema, numbers of rows, distributions and queries are those of P. O'Neil, E. O'Neil, X. Chen: Star Schema Benchmark,
// revision 3, 2009, and, for what that takes from TPC-H (orders, prices, names of parts), of TPC-H 2: customers, parts,
// suppliers and days are drawn evenly, an order has one to seven lines. ssb/star.ridge holds the model and the queries,
// ssb/statements.sql the statements. Both engines have two threads and their tables in memory; keys are integers.
#include <fmt/format.h>

#include <array>
#include <bit>
#include <chrono>
#include <filesystem>
#include <iostream>
#include <random>
#include <string>
#include <utility>
#include <vector>

#include "juniper/dataset.h"
#include "open_model.h"
#include "peer.h"
#include "side_by_side.h"
#include "text_file.h"

namespace {

using namespace juniper;
using bench::TextFile;
namespace fs = std::filesystem;

struct Nation {
  const char* name;
  const char* region;
};
constexpr Nation nations[] = {{"ALGERIA", "AFRICA"},       {"ARGENTINA", "AMERICA"},  {"BRAZIL", "AMERICA"},
                              {"CANADA", "AMERICA"},       {"EGYPT", "MIDDLE EAST"},  {"ETHIOPIA", "AFRICA"},
                              {"FRANCE", "EUROPE"},        {"GERMANY", "EUROPE"},     {"INDIA", "ASIA"},
                              {"INDONESIA", "ASIA"},       {"IRAN", "MIDDLE EAST"},   {"IRAQ", "MIDDLE EAST"},
                              {"JAPAN", "ASIA"},           {"JORDAN", "MIDDLE EAST"}, {"KENYA", "AFRICA"},
                              {"MOROCCO", "AFRICA"},       {"MOZAMBIQUE", "AFRICA"},  {"PERU", "AMERICA"},
                              {"CHINA", "ASIA"},           {"ROMANIA", "EUROPE"},     {"SAUDI ARABIA", "MIDDLE EAST"},
                              {"VIETNAM", "ASIA"},         {"RUSSIA", "EUROPE"},      {"UNITED KINGDOM", "EUROPE"},
                              {"UNITED STATES", "AMERICA"}};
constexpr const char* colors[] = {"almond", "azure", "beige", "black",  "blue",  "brown",  "coral", "cream",
                                  "cyan",   "gold",  "green", "indigo", "ivory", "khaki",  "lemon", "linen",
                                  "maroon", "olive", "peach", "plum",   "red",   "salmon", "tan",   "white"};
constexpr const char* sizes[] = {"STANDARD", "SMALL", "MEDIUM", "LARGE", "ECONOMY", "PROMO"};
constexpr const char* finishes[] = {"ANODIZED", "BURNISHED", "PLATED", "POLISHED", "BRUSHED"};
constexpr const char* metals[] = {"TIN", "NICKEL", "BRASS", "STEEL", "COPPER"};
constexpr const char* box_sizes[] = {"SM", "LG", "MED", "JUMBO", "WRAP"};
constexpr const char* boxes[] = {"CASE", "BOX", "BAG", "JAR", "PKG", "PACK", "CAN", "DRUM"};
constexpr const char* segments[] = {"AUTOMOBILE", "BUILDING", "FURNITURE", "MACHINERY", "HOUSEHOLD"};
constexpr const char* priorities[] = {"1-URGENT", "2-HIGH", "3-MEDIUM", "4-NOT SPECI", "5-LOW"};
constexpr const char* modes[] = {"REG AIR", "AIR", "RAIL", "SHIP", "TRUCK", "MAIL", "FOB"};
constexpr const char* months[] = {"January", "February", "March",     "April",   "May",      "June",
                                  "July",    "August",   "September", "October", "November", "December"};
constexpr const char* weekdays[] = {"Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"};

class Generator {
 public:
  Generator(const std::string& folder, std::uint64_t scale)
      : folder_(folder),
        customers_(30'000 * scale),
        suppliers_(2'000 * scale),
        parts_(200'000 * static_cast<std::uint64_t>(std::bit_width(scale))),  // 200,000 * (1 + floor(log2(scale)))
        orders_(1'500'000 * scale) {}

  void write() {
    fs::create_directories(folder_);
    write_dates();
    write_parts();
    write_people("supplier", "s", "suppkey", suppliers_, false);
    write_people("customer", "c", "custkey", customers_, true);
    write_orders();
  }

 private:
  using Days = std::chrono::sys_days;

  std::uint64_t draw(std::uint64_t low, std::uint64_t high) { return bench::draw(random_, low, high); }
  template <class List>
  const char* one_of(const List& list) {
    return list[draw(0, std::size(list) - 1)];
  }
  std::string address() {
    constexpr char letters[] = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789 ";
    std::string text;
    for (std::uint64_t left = draw(10, 25); left != 0; --left) text += letters[draw(0, sizeof letters - 2)];
    return text;
  }
  // In cents, as TPC-H has it.
  static std::uint64_t price_of(std::uint64_t part) { return 90'000 + part / 10 % 20'001 + 100 * (part % 1'000); }
  static std::uint64_t key_of(Days day) {
    const std::chrono::year_month_day date(day);
    return static_cast<std::uint64_t>(static_cast<int>(date.year())) * 10'000 +
           static_cast<unsigned>(date.month()) * 100 + static_cast<unsigned>(date.day());
  }

  void write_dates() {
    using namespace std::chrono;
    TextFile file(folder_ + "/date.csv");
    file.line(
        "d_datekey,d_date,d_dayofweek,d_month,d_year,d_yearmonthnum,d_yearmonth,d_daynuminweek,d_daynuminmonth,"
        "d_daynuminyear,d_monthnuminyear,d_weeknuminyear,d_sellingseason,d_lastdayinweekfl,d_lastdayinmonthfl,"
        "d_holidayfl,d_weekdayfl");
    for (Days day = first_day; day <= last_day; day += days(1)) {
      const year_month_day date(day);
      const int year = static_cast<int>(date.year());
      const unsigned month = static_cast<unsigned>(date.month());
      const unsigned of_month = static_cast<unsigned>(date.day());
      const unsigned of_week = weekday(day).c_encoding();
      const auto of_year = (day - Days(date.year() / January / 1)).count() + 1;
      const bool last = date == date.year() / date.month() / std::chrono::last;
      const char* season = month >= 11 ? "Christmas" : month <= 3 ? "Winter" : month <= 5 ? "Spring" : "Summer";
      if (month >= 9 && month < 11) season = "Fall";
      const std::string name = months[month - 1];
      file.line("{},\"{} {}, {}\",{},{},{},{},{},{},{},{},{},{},{},{},{},{},{}", key_of(day), name, of_month, year,
                weekdays[of_week], name, year, year * 100 + static_cast<int>(month),
                name.substr(0, 3) + std::to_string(year), of_week + 1, of_month, of_year, month, (of_year - 1) / 7 + 1,
                season, of_week == 6, last, of_month == 25 && month == 12, of_week != 0 && of_week != 6);
    }
  }

  void write_parts() {
    TextFile file(folder_ + "/part.csv");
    file.line("p_partkey,p_name,p_mfgr,p_category,p_brand1,p_color,p_type,p_size,p_container");
    for (std::uint64_t key = 1; key <= parts_; ++key) {
      const char* color = one_of(colors);
      const std::uint64_t maker = draw(1, 5);
      const std::uint64_t category = draw(1, 5);
      file.line("{},{} {},MFGR#{},MFGR#{}{},MFGR#{}{}{},{},{} {} {},{},{} {}", key, color, one_of(colors), maker, maker,
                category, maker, category, draw(1, 40), color, one_of(sizes), one_of(finishes), one_of(metals),
                draw(1, 50), one_of(box_sizes), one_of(boxes));
    }
  }

  void write_people(const std::string& table, const std::string& prefix, const std::string& key, std::uint64_t count,
                    bool with_segment) {
    TextFile file(folder_ + "/" + table + ".csv");
    file.line("{0}_{1},{0}_name,{0}_address,{0}_city,{0}_nation,{0}_region,{0}_phone{2}", prefix, key,
              with_segment ? ",c_mktsegment" : "");
    const std::string name = table == "supplier" ? "Supplier" : "Customer";
    for (std::uint64_t i = 1; i <= count; ++i) {
      const std::uint64_t which = draw(0, std::size(nations) - 1);
      const Nation& nation = nations[which];
      file.line("{},{}#{:09},{},{:9.9}{},{},{},{}-{}-{}-{}{}{}", i, name, i, address(), nation.name, draw(0, 9),
                nation.name, nation.region, 10 + which, draw(100, 999), draw(100, 999), draw(1000, 9999),
                with_segment ? "," : "", with_segment ? one_of(segments) : "");
    }
  }

  void write_orders() {
    constexpr std::uint64_t orders_of_file = 1'500'000;
    for (std::uint64_t begin = 0; begin < orders_; begin += orders_of_file) {
      TextFile file(fmt::format("{}/lineorder-{:03}.csv", folder_, begin / orders_of_file));
      file.line(
          "lo_orderkey,lo_linenumber,lo_custkey,lo_partkey,lo_suppkey,lo_orderdate,lo_orderpriority,lo_shippriority,"
          "lo_quantity,lo_extendedprice,lo_ordtotalprice,lo_discount,lo_revenue,lo_supplycost,lo_tax,lo_commitdate,"
          "lo_shipmode");
      for (std::uint64_t order = begin; order < std::min(orders_, begin + orders_of_file); ++order)
        write_order(order, file);
    }
  }

  void write_order(std::uint64_t order, TextFile& file) {
    struct Line {
      std::uint64_t part, supplier, quantity, price, discount, tax, revenue, cost, commit;
      const char* mode;
    };
    const std::uint64_t key = order / 8 * 32 + order % 8 + 1;  // eight of 32 keys are used
    std::uint64_t customer = draw(1, customers_);
    while (customer % 3 == 0) customer = draw(1, customers_);  // a third of the customers never order
    const Days day =
        first_day + std::chrono::days(draw(0, static_cast<std::uint64_t>((last_day - first_day).count()) - 151));
    const char* priority = one_of(priorities);
    std::array<Line, 7> lines;
    const std::uint64_t count = draw(1, 7);
    std::uint64_t total = 0;
    for (std::uint64_t l = 0; l < count; ++l) {
      Line& line = lines[l];
      line.part = draw(1, parts_);
      line.supplier = draw(1, suppliers_);
      line.quantity = draw(1, 50);
      line.price = line.quantity * price_of(line.part);
      line.discount = draw(0, 10);
      line.tax = draw(0, 8);
      line.revenue = line.price * (100 - line.discount) / 100;
      line.cost = 6 * price_of(line.part) / 10;
      line.commit = key_of(day + std::chrono::days(draw(30, 90)));
      line.mode = one_of(modes);
      total += line.price * (100 + line.tax) / 100 * (100 - line.discount) / 100;
    }
    for (std::uint64_t l = 0; l < count; ++l) {
      const Line& line = lines[l];
      file.line("{},{},{},{},{},{},{},0,{},{},{},{},{},{},{},{},{}", key, l + 1, customer, line.part, line.supplier,
                key_of(day), priority, line.quantity, line.price, total, line.discount, line.revenue, line.cost,
                line.tax, line.commit, line.mode);
    }
  }

  static constexpr Days first_day = std::chrono::year(1992) / std::chrono::January / 1;
  static constexpr Days last_day = std::chrono::year(1998) / std::chrono::December / 31;
  std::string folder_;
  std::uint64_t customers_;
  std::uint64_t suppliers_;
  std::uint64_t parts_;
  std::uint64_t orders_;
  std::mt19937_64 random_{7};
};

}  // namespace

int main(int count, char** arguments) {
  if (count < 5) {
    std::cerr << "usage: bench_ssb FOLDER SCALE PEER REPEATS [QUERY...]\n";
    return 2;
  }
  const std::string folder = fs::absolute(arguments[1]);
  const std::uint64_t scale = std::stoull(arguments[2]);
  bench::SideBySide settings;
  settings.repeats = std::stoi(arguments[4]);
  settings.chosen.assign(arguments + 5, arguments + count);
  settings.figures = folder + "/ssb.json";
  if (!fs::exists(folder + "/data/lineorder-000.csv")) Generator(folder + "/data", scale).write();
  const Dataset dataset = bench::open_model(BENCH_SSB "/star.ridge", folder, settings.threads);
  settings.over = fmt::format("Star Schema Benchmark, scale {}", scale);
  bench::Peer peer(arguments[3], settings.threads);
  bench::fill(
      peer, folder, "ssb.peer",
      {{"lineorder", "lineorder-*",
        "'lo_orderkey': integer, 'lo_linenumber': tinyint, 'lo_custkey': integer, 'lo_partkey': integer, 'lo_suppkey': "
        "integer, 'lo_orderdate': integer, 'lo_orderpriority': varchar, 'lo_shippriority': tinyint, 'lo_quantity': "
        "tinyint, "
        "'lo_extendedprice': integer, 'lo_ordtotalprice': integer, 'lo_discount': tinyint, 'lo_revenue': integer, "
        "'lo_supplycost': integer, 'lo_tax': tinyint, 'lo_commitdate': integer, 'lo_shipmode': varchar"},
       {"part", "part",
        "'p_partkey': integer, 'p_name': varchar, 'p_mfgr': varchar, 'p_category': varchar, 'p_brand1': varchar, "
        "'p_color': "
        "varchar, 'p_type': varchar, 'p_size': tinyint, 'p_container': varchar"},
       {"supplier", "supplier",
        "'s_suppkey': integer, 's_name': varchar, 's_address': varchar, 's_city': varchar, 's_nation': varchar, "
        "'s_region': "
        "varchar, 's_phone': varchar"},
       {"customer", "customer",
        "'c_custkey': integer, 'c_name': varchar, 'c_address': varchar, 'c_city': varchar, 'c_nation': varchar, "
        "'c_region': "
        "varchar, 'c_phone': varchar, 'c_mktsegment': varchar"},
       {"dates", "date",
        "'d_datekey': integer, 'd_date': varchar, 'd_dayofweek': varchar, 'd_month': varchar, 'd_year': smallint, "
        "'d_yearmonthnum': integer, 'd_yearmonth': varchar, 'd_daynuminweek': tinyint, 'd_daynuminmonth': tinyint, "
        "'d_daynuminyear': smallint, 'd_monthnuminyear': tinyint, 'd_weeknuminyear': tinyint, 'd_sellingseason': "
        "varchar, "
        "'d_lastdayinweekfl': boolean, 'd_lastdayinmonthfl': boolean, 'd_holidayfl': boolean, 'd_weekdayfl': "
        "boolean"}});
  bench::run_side_by_side(dataset, peer, bench::read_statements(BENCH_SSB "/statements.sql"), settings);
  return 0;
}
