// Plans of their own kinds over an invoice's lines, drawn with runs of rows that share their far rows: keys that a row
// determines, alternatives over several tables, candidates first, another value of the same key, two columns compared,
// patterns over texts that hardly repeat. Each query is answered by the engine, by the naive evaluator and by SQLite; with
// and without rows that lead nowhere, nulls, and clustered or scattered keys.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

#include "support/support.h"
#include "support/three_ways.h"

namespace juniper::star_shapes_test {
namespace {

constexpr const char* model_text = R"(
table lands from csv "lands.csv" { key land_id integer  name text }
table holders from csv "holders.csv" { key holder_id integer  land_id integer  segment text  name text }
table invoices from csv "invoices.csv" { key invoice_id integer  holder_id integer  issued date  reference text }
table lines from csv "lines.csv" {
  invoice_id integer  offer integer  kwh decimal(2)  price integer  due date  paid date  way text
}
link holders.land_id -> lands.land_id
link invoices.holder_id -> holders.holder_id
link lines.invoice_id -> invoices.invoice_id
measure n = count(lines)
measure energy = sum(kwh for lines)
)";

struct Habits {
  std::size_t invoices;
  bool orphans;  // some keys lead nowhere
  bool nulls;
  bool in_order;  // invoices are numbered as their lines come
  bool wide;      // their numbers lie far apart
};

class Network {
 public:
  Network(const Habits& habits, std::uint64_t seed) : habits_(habits), random_(seed), model_(model_text, files()) {}
  Dataset open() const {
    Options options;
    options.threads = 2;
    return model_.open(options);
  }

 private:
  std::uint64_t below(std::uint64_t end) { return random_() % end; }
  std::string maybe(const std::string& text, unsigned in) { return habits_.nulls && below(in) == 0 ? "" : text; }
  std::string day() { return fmt::format("2024-{:02}-{:02}", 1 + below(3), 1 + below(28)); }
  std::uint64_t id_of(std::size_t invoice) const {
    const std::size_t place = habits_.in_order ? invoice : (invoice * 7919) % habits_.invoices;
    return habits_.wide ? place * 1'000'003 + 17 : place / 8 * 32 + place % 8;
  }

  std::map<std::string, std::string> files() {
    std::map<std::string, std::string> files{{"lands.csv", "land_id,name\n1,Aster\n2,Briar\n3,Clover\n"},
                                             {"holders.csv", "holder_id,land_id,segment,name\n"},
                                             {"invoices.csv", "invoice_id,holder_id,issued,reference\n"},
                                             {"lines.csv", "invoice_id,offer,kwh,price,due,paid,way\n"}};
    const std::size_t holders = 3 + habits_.invoices / 6;
    for (std::size_t h = 0; h < holders; ++h)
      files["holders.csv"] += fmt::format("{},{},{},holder {}\n", h, maybe(std::to_string(1 + below(3)), 9),
                                          maybe(below(2) == 0 ? "fleet" : "guest", 9), h);
    for (std::size_t i = 0; i < habits_.invoices; ++i) {
      const std::uint64_t id = id_of(i);
      // An orphan's lines are there, and its invoice is not.
      if (!habits_.orphans || below(8) != 0) {
        files["invoices.csv"] += fmt::format("{},{},{},{:05x}/{} {}\n", id, maybe(std::to_string(below(holders)), 7),
                                             maybe(day(), 11), below(1 << 20), below(50), below(2) == 0 ? "a%b" : "äb");
      }
      for (std::uint64_t left = 1 + below(7); left != 0; --left) {
        files["lines.csv"] += fmt::format("{},{},{}.{:02},{},{},{},{}\n", maybe(std::to_string(id), 40), below(5),
                                          below(50), below(100), maybe(std::to_string(below(9)), 8), maybe(day(), 12),
                                          maybe(day(), 12), maybe(below(3) == 0 ? "app" : "card", 10));
      }
    }
    return files;
  }

  Habits habits_;
  std::mt19937_64 random_;
  test::SmallModel model_;
};

void expect_agreement(const Dataset& dataset, const std::vector<std::string>& queries, const std::string& what) {
  for (const std::string& query : queries)
    EXPECT_EQ(test::answer_difference(dataset, query), "") << query << "\n" << what;
}

void for_all_habits(std::size_t invoices, const std::vector<std::string>& queries) {
  for (unsigned bits = 0; bits < 16; ++bits) {
    const Habits habits{invoices, (bits & 1) != 0, (bits & 2) != 0, (bits & 4) != 0, (bits & 8) != 0};
    const Network network(habits, test::test_seed(31) + bits);
    expect_agreement(network.open(), queries, fmt::format("habits {:04b}, {} invoices", bits, invoices));
  }
}

TEST(StarShapes, KeysThatARowDetermines) {
  for_all_habits(250,
                 {"by lines.invoice_id, invoices.issued, invoices.reference show energy, n",
                  "by invoices.reference, invoices.invoice_id, lines.way show energy",
                  "by lines.invoice_id, invoices.invoice_id show n total grand",
                  "by lines.invoice_id, holders.name, lands.name, invoices.issued show energy "
                  "total (lines.invoice_id, holders.name) total holders.name",
                  "by holders.holder_id, holders.name, lands.name show energy having energy > 100 sort energy desc "
                  "limit 7",
                  "by lands.name, lands.land_id, holders.segment show n",
                  "by lines.invoice_id, invoices.issued show n where holders.segment = \"fleet\"",
                  "by lines.invoice_id, holders.holder_id show energy where lines.price > 7 sort energy limit 5"});
}

TEST(StarShapes, AlternativesOverSeveralTables) {
  for_all_habits(900, {"show n, energy where (lines.way = \"app\" and holders.segment = \"fleet\" and lines.price < 3) "
                       "or (lines.way = \"card\" and lands.name = \"Aster\" and lines.price > 5)",
                       "by lands.name show n where lands.name = \"Aster\" or holders.segment is null",
                       "show n where (invoices.issued is null or lines.way = \"app\") and "
                       "(lines.price = 1 or lines.price is null or holders.segment = \"guest\")",
                       "show n where not (lines.way = \"app\" or lands.name = \"Briar\")",
                       "by lines.way show sum(kwh for lines where (offer = 1 and holders.segment = \"fleet\") or "
                       "(offer = 2 and lines.price > 3)) as some, n"});
}

TEST(StarShapes, TwoColumnsCompared) {
  for_all_habits(900, {"show n where lines.paid > lines.due", "by lines.way show n where lines.paid <= lines.due",
                       "show n where lines.paid = lines.due", "by lands.name show n where lines.due <> lines.paid",
                       "show n where lines.offer < lines.price and lines.paid >= lines.due",
                       "show count(l in lines where l.paid > l.due and l.way = \"app\") as late"});
}

TEST(StarShapes, CandidatesFirst) {
  for_all_habits(
      60, {"show sum(x.price for x in lines where x.way = \"app\" and x.kwh < 0.5 * avg(y.kwh for y in lines where "
           "y.offer = x.offer)) as low",
           "show count(x in lines where x.lands.name = \"Aster\" and x.price = min(y.price for y in lines where "
           "y.offer = x.offer)) as cheapest",
           "by lines.way show count(i in invoices where exists(l in lines where l.invoice_id = i.invoice_id and "
           "l.paid > l.due)) as late keep empty",
           "show count(h in holders where not exists(i in invoices where i.holder_id = h.holder_id)) as idle",
           "by lands.name show max(count(i in invoices where i.holder_id = h.holder_id) for h in holders) as most",
           "show count(x in lines where exists(y in lines where y.invoice_id = x.invoice_id and y.offer <> "
           "x.offer)) as mixed",
           "by lines.way show count(x in lines where not exists(y in lines where y.invoice_id = x.invoice_id and "
           "y.price <> x.price and y.paid > y.due)) as alone",
           "show count(x in lines where exists(y in lines where y.offer = x.offer and x.kwh <> y.kwh)) as others",
           "show count(x in lines where exists(y in lines where y.invoice_id = x.invoice_id and y.way <> x.way and "
           "y.offer <> x.offer)) as both",
           // What does not fit in some row leaves open whether there is one.
           "show count(x in lines where exists(y in lines where y.invoice_id = x.invoice_id and y.offer <> x.offer "
           "and y.price * 9000000000000000000 * 9000000000000000000 * 9000000000 > 0)) as n",
           "show count(x in lines where x.kwh > avg(y.kwh for y in lines)) as above"});
}

TEST(StarShapes, PatternsOverTextsThatHardlyRepeat) {
  for_all_habits(1500,
                 {"show n where invoices.reference like \"%7%4%\"", "show n where invoices.reference like \"0%b\"",
                  "show n where invoices.reference like \"%ä%\"", "show n where invoices.reference like \"%/1_ %\"",
                  "show n where not (invoices.reference like \"%a%\")", "show n where invoices.reference like \"%\"",
                  "by lines.way show n where invoices.reference like \"%b\" or lines.way like \"_pp\""});
}

}  // namespace
}  // namespace juniper::star_shapes_test
