// Queries of many shapes over a second network of charging, whose habits are other than the demo's, beside the peer.
// usage: bench_shapes FOLDER ITEMS PEER REPEATS [QUERY…]
//
// shapes/billing.ridge holds the model and the queries, shapes/statements.sql their twins. Lines of an invoice stand in
// runs of one to seven with the same far rows; readings stand in no order; meters are drawn by Zipf's law; references and
// reasons hardly repeat; some values are missing. Both engines have two threads and their tables in memory.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <filesystem>
#include <iostream>
#include <iterator>
#include <random>
#include <string>
#include <utility>
#include <vector>

#include "open_model.h"
#include "peer.h"
#include "side_by_side.h"
#include "text_file.h"

namespace {

using namespace juniper;
using bench::TextFile;
namespace fs = std::filesystem;
using Days = std::chrono::sys_days;

constexpr const char* lands[] = {"Aster",  "Briar", "Clover", "Dahlia", "Elder",  "Fennel", "Gorse",
                                 "Heath",  "Iris",  "Jasper", "Kale",   "Laurel", "Mallow", "Nettle",
                                 "Orchid", "Poppy", "Quince", "Rowan",  "Sorrel", "Thyme"};
constexpr const char* kinds[] = {"street", "park", "depot", "harbour", "market", "court"};
constexpr const char* segments[] = {"fleet", "private", "guest", "partner", "public"};
constexpr const char* colors[] = {"amber", "blue",  "brown", "coral", "cream", "green", "grey", "ivory",
                                  "lilac", "olive", "plum",  "red",   "rose",  "sand",  "teal", "white"};
constexpr const char* sizes[] = {"standard", "small", "medium", "large", "economy", "promo"};
constexpr const char* finishes[] = {"anodized", "burnished", "plated", "polished", "brushed"};
constexpr const char* metals[] = {"tin", "nickel", "brass", "steel", "copper"};
constexpr const char* boxes[] = {"case", "box", "bag", "jar", "pack", "can", "drum", "crate"};
constexpr const char* urgencies[] = {"urgent", "high", "medium", "low", "none"};
constexpr const char* states[] = {"open", "part", "paid"};
constexpr const char* ways[] = {"app", "card", "post", "rail", "desk", "plug", "call"};
constexpr const char* returns[] = {"back", "kept", "none"};
constexpr const char* words[] = {"cable", "worn",  "screen", "dark",    "latch", "loose", "reader", "slow",
                                 "fuse",  "blown", "paint",  "cracked", "lamp",  "off",   "bolt",   "gone"};

constexpr std::uint64_t sites_count = 4'000;
constexpr std::uint64_t districts_count = 400;
constexpr std::uint64_t meters_count = 20'000;
constexpr std::uint64_t offers_count = 200'000;
constexpr Days first_day = std::chrono::year(2019) / std::chrono::January / 1;
constexpr Days last_issue = std::chrono::year(2025) / std::chrono::June / 30;
constexpr Days last_day = std::chrono::year(2026) / std::chrono::March / 31;

class Generator {
 public:
  Generator(const std::string& folder, std::uint64_t items) : folder_(folder), items_(items) {
    // The k-th meter has a share of 1 / k; which is the k-th is drawn.
    double total = 0;
    for (std::uint64_t k = 1; k <= meters_count; ++k) {
      total += 1 / static_cast<double>(k);
      shares_.push_back(total);
      meters_.push_back(k);
    }
    std::shuffle(meters_.begin(), meters_.end(), random_);
  }

  void write() {
    fs::create_directories(folder_);
    write_places();
    write_offers();
    write_invoices();
    write_readings();
    write_tickets();
  }

 private:
  std::uint64_t draw(std::uint64_t low, std::uint64_t high) { return bench::draw(random_, low, high); }
  template <class List>
  const char* one_of(const List& list) {
    return list[draw(0, std::size(list) - 1)];
  }
  std::uint64_t skewed_meter() {
    const double at = std::generate_canonical<double, 53>(random_) * shares_.back();
    const auto place = std::upper_bound(shares_.begin(), shares_.end(), at) - shares_.begin();
    return meters_[std::min<std::size_t>(static_cast<std::size_t>(place), meters_count - 1)];
  }
  static std::string date(Days day) {
    const std::chrono::year_month_day d(day);
    return fmt::format("{:04}-{:02}-{:02}", static_cast<int>(d.year()), static_cast<unsigned>(d.month()),
                       static_cast<unsigned>(d.day()));
  }
  const std::string& text_of(Days day) { return dates_[static_cast<std::size_t>((day - first_day).count())]; }
  Days any_day(Days last) {
    return first_day + std::chrono::days(draw(0, static_cast<std::uint64_t>((last - first_day).count())));
  }
  std::uint64_t holders() const { return std::max<std::uint64_t>(100, items_ / 40); }
  static std::string money(std::uint64_t hundredths) {
    return fmt::format("{}.{:02}", hundredths / 100, hundredths % 100);
  }

  void write_places() {
    TextFile days(folder_ + "/days.csv");
    days.line("day,year,quarter,month");
    for (Days day = first_day; day <= last_day; day += std::chrono::days(1)) {
      const std::chrono::year_month_day d(day);
      const unsigned month = static_cast<unsigned>(d.month());
      dates_.push_back(date(day));
      days.line("{},{},{},{}", dates_.back(), static_cast<int>(d.year()), (month + 2) / 3, month);
    }
    TextFile land(folder_ + "/lands.csv");
    land.line("land_id,name");
    for (std::size_t i = 0; i < std::size(lands); ++i) land.line("{},{}", i + 1, lands[i]);
    TextFile district(folder_ + "/districts.csv");
    district.line("district_id,land_id,name");
    for (std::uint64_t i = 1; i <= districts_count; ++i)
      district.line("{},{},district {}", i, draw(1, std::size(lands)), i);
    TextFile site(folder_ + "/sites.csv");
    site.line("site_id,district_id,kind,name");
    for (std::uint64_t i = 1; i <= sites_count; ++i)
      site.line("{},{},{},{} {} {}", i, draw(1, districts_count), one_of(kinds), one_of(colors), one_of(kinds), i);
    TextFile meter(folder_ + "/meters.csv");
    meter.line("meter_id,site_id,model,kw");
    for (std::uint64_t i = 1; i <= meters_count; ++i)
      meter.line("{},{},model {},{}", i, draw(1, sites_count), draw(1, 40), 11 * draw(1, 32));
    TextFile holder(folder_ + "/holders.csv");
    holder.line("holder_id,land_id,segment,name,phone,balance");
    for (std::uint64_t i = 1; i <= holders(); ++i) {
      const std::uint64_t balance = draw(0, 1'099'999);
      holder.line("{},{},{},holder {:07},{}-{}-{},{}{}", i, draw(1, std::size(lands)), one_of(segments), i,
                  draw(10, 34), draw(100, 999), draw(1000, 9999), balance < 100'000 ? "-" : "",
                  money(balance < 100'000 ? balance : balance - 100'000));
    }
  }

  void write_offers() {
    TextFile offer(folder_ + "/offers.csv");
    offer.line("offer_id,brand,class,pack,size,title");
    for (std::uint64_t i = 1; i <= offers_count; ++i) {
      offer.line("{},brand {}{},{} {} {},{} {},{},{} {} {} {}", i, draw(1, 5), draw(1, 5), one_of(sizes),
                 one_of(finishes), one_of(metals), sizes[draw(0, 4)], one_of(boxes), draw(1, 50), one_of(colors),
                 one_of(colors), one_of(colors), one_of(colors));
    }
  }

  void write_invoices() {
    TextFile invoice(folder_ + "/invoices.csv");
    invoice.line("invoice_id,holder_id,issued,urgency,status,reference");
    std::uint64_t written = 0;
    std::uint64_t number = 0;
    for (unsigned part = 0; written < items_; ++part) {
      TextFile item(fmt::format("{}/items-{:03}.csv", folder_, part));
      item.line("invoice_id,line,offer_id,meter_id,kwh,price,rebate,tax,billed,promised,received,means,returned");
      for (const std::uint64_t end = std::min(items_, written + 6'000'000); written < end;) {
        const std::uint64_t id = number / 8 * 32 + number % 8 + 1;
        ++number;
        // A third of the holders have none.
        std::uint64_t holder = draw(1, holders());
        while (holder % 3 == 0) holder = draw(1, holders());
        const Days issued = any_day(last_issue);
        invoice.line("{},{},{},{},{},{:08x}-{:04}/{} {}", id, draw(0, 99) == 0 ? "" : std::to_string(holder),
                     text_of(issued), one_of(urgencies), one_of(states), draw(0, 0xffffffff), draw(0, 9999),
                     one_of(words), one_of(words));
        for (std::uint64_t line = 1, lines = draw(1, 7); line <= lines && written < end; ++line, ++written) {
          const std::uint64_t offer = draw(1, offers_count);
          const std::uint64_t kwh = draw(100, 5'000);
          const Days billed = issued + std::chrono::days(draw(1, 121));
          const Days promised = issued + std::chrono::days(draw(30, 90));
          const Days received = billed + std::chrono::days(draw(1, 30));
          item.line("{},{},{},{},{},{},0.{:02},0.{:02},{},{},{},{},{}", id, line, offer, draw(1, meters_count),
                    money(kwh), money(kwh * (20 + offer % 81) / 100), draw(0, 10), draw(0, 8), text_of(billed),
                    text_of(promised), draw(0, 99) < 3 ? "" : text_of(received), one_of(ways), one_of(returns));
        }
      }
    }
  }

  void write_readings() {
    TextFile reading(folder_ + "/readings.csv");
    reading.line("meter_id,day,value,quality");
    for (std::uint64_t i = 0; i < items_ / 2; ++i) {
      const std::uint64_t value = draw(0, 999'999);
      reading.line("{},{},{}.{:03},{}", skewed_meter(), text_of(any_day(last_issue)), value / 1000, value % 1000,
                   draw(0, 4) == 0 ? "" : std::to_string(draw(1, 9)));
    }
  }

  void write_tickets() {
    TextFile ticket(folder_ + "/tickets.csv");
    ticket.line("ticket_id,meter_id,opened,closed,reason,minutes,cost");
    for (std::uint64_t i = 1; i <= items_ / 20; ++i) {
      const Days opened = any_day(last_issue);
      ticket.line("{},{},{},{},{} {} {} {} no {},{},{}", i, skewed_meter(), text_of(opened),
                  draw(0, 9) == 0 ? "" : text_of(opened + std::chrono::days(draw(0, 40))), one_of(words), one_of(words),
                  one_of(words), one_of(words), draw(1, 99'999), draw(1, 600), money(draw(0, 99'999)));
    }
  }

  std::string folder_;
  std::uint64_t items_;
  std::mt19937_64 random_{11};
  std::vector<double> shares_;  // of the meters up to the k-th
  std::vector<std::uint64_t> meters_;
  std::vector<std::string> dates_;  // from the first day on
};

}  // namespace

int main(int count, char** arguments) {
  if (count < 5) {
    std::cerr << "usage: bench_shapes FOLDER ITEMS PEER REPEATS [QUERY...]\n";
    return 2;
  }
  const std::string folder = fs::absolute(arguments[1]);
  const std::uint64_t items = std::stoull(arguments[2]);
  bench::SideBySide settings;
  settings.over = fmt::format("A network of other habits, {} items of invoices", items);
  settings.repeats = std::stoi(arguments[4]);
  settings.chosen.assign(arguments + 5, arguments + count);
  settings.figures = folder + "/shapes.json";
  if (!fs::exists(folder + "/data/tickets.csv")) Generator(folder + "/data", items).write();
  const Dataset dataset = bench::open_model(BENCH_SHAPES "/billing.ridge", folder, settings.threads);
  bench::Peer peer(arguments[3], settings.threads);
  bench::fill(
      peer, folder, "shapes.peer",
      {{"lands", "lands", "'land_id': integer, 'name': varchar"},
       {"districts", "districts", "'district_id': integer, 'land_id': integer, 'name': varchar"},
       {"sites", "sites", "'site_id': integer, 'district_id': integer, 'kind': varchar, 'name': varchar"},
       {"meters", "meters", "'meter_id': integer, 'site_id': integer, 'model': varchar, 'kw': smallint"},
       {"holders", "holders",
        "'holder_id': integer, 'land_id': integer, 'segment': varchar, 'name': varchar, 'phone': varchar, 'balance': "
        "'decimal(9, 2)'"},
       {"offers", "offers",
        "'offer_id': integer, 'brand': varchar, 'class': varchar, 'pack': varchar, 'size': tinyint, 'title': varchar"},
       {"invoices", "invoices",
        "'invoice_id': integer, 'holder_id': integer, 'issued': date, 'urgency': varchar, 'status': varchar, "
        "'reference': varchar"},
       {"items", "items-*",
        "'invoice_id': integer, 'line': tinyint, 'offer_id': integer, 'meter_id': integer, 'kwh': 'decimal(4, 2)', "
        "'price': 'decimal(7, 2)', 'rebate': 'decimal(3, 2)', 'tax': 'decimal(3, 2)', 'billed': date, 'promised': "
        "date, "
        "'received': date, 'means': varchar, 'returned': varchar"},
       {"readings", "readings", "'meter_id': integer, 'day': date, 'value': 'decimal(6, 3)', 'quality': tinyint"},
       {"tickets", "tickets",
        "'ticket_id': integer, 'meter_id': integer, 'opened': date, 'closed': date, 'reason': varchar, 'minutes': "
        "smallint, 'cost': 'decimal(9, 2)'"},
       {"days", "days", "'day': date, 'year': smallint, 'quarter': tinyint, 'month': tinyint"}});
  bench::run_side_by_side(dataset, peer, bench::read_statements(BENCH_SHAPES "/statements.sql"), settings);
  return 0;
}
