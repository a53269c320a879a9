// Stores that somebody forged: decoded, changed where it could hurt, and sealed again with right checksums. Whatever is
// asked of them is answered or refused; nothing reads or writes where it must not, which the sanitizers see.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>
#include <limits>

#include "base/failure.h"
#include "juniper/audit.h"
#include "juniper/describe.h"
#include "juniper/explain.h"
#include "juniper/links.h"
#include "juniper/refactor.h"
#include "juniper/unfold.h"
#include "juniper/weigh.h"
#include "random/drawn_model.h"
#include "random/random_query.h"
#include "store/store.h"
#include "support/deadline.h"
#include "support/support.h"

namespace juniper::forged_store_test {
namespace {

namespace fs = std::filesystem;
using store::Codes;
using store::Column;
using store::Layout;
using store::Store;
using store::StoredColumn;
using store::StoredLink;
using store::StoredTable;
using test::chance;
using test::pick;
using test::Random;

constexpr std::uint64_t most = std::numeric_limits<std::uint64_t>::max();

// A number near one that is right, or far from it.
std::uint64_t other_number(Random& random, std::uint64_t number) {
  const std::array<std::uint64_t, 9> others{0, 1, number + 1, number - 1, number * 2, 4096, 1U << 20, most, random()};
  return others[pick(random, others.size())];
}

Codes other_codes(Random& random, std::uint64_t count, std::uint64_t largest) {
  std::vector<std::uint64_t> codes(count);
  const bool in_runs = chance(random, 30);
  for (std::size_t i = 0; i < codes.size(); ++i) {
    codes[i] = in_runs && i > 0 && chance(random, 90) ? codes[i - 1] : random() % std::max<std::uint64_t>(largest, 1);
  }
  if (!codes.empty() && chance(random, 50)) codes[pick(random, codes.size())] = other_number(random, largest);
  return Codes::encode(codes);
}

Value other_value(Random& random, Type type) {
  switch (type.kind) {
    case TypeKind::text:
      return Value::of(std::string(chance(random, 50) ? "" : "zzz"));
    case TypeKind::real:
      return Value::of(chance(random, 50) ? -1e300 : 0.5);
    case TypeKind::boolean:
      return Value::of(int128{pick(random, 2)});
    case TypeKind::integer:
    case TypeKind::decimal:
      return Value::of(static_cast<int128>(static_cast<std::int64_t>(other_number(random, 5))));
    case TypeKind::date:
    case TypeKind::datetime:
    case TypeKind::time:
      break;
  }
  return Value::of(int128{pick(random, 20'000)});
}

Type other_type(Random& random) {
  return {static_cast<TypeKind>(pick(random, 8)), static_cast<std::uint8_t>(chance(random, 20) ? pick(random, 20) : 0)};
}

store::TextDictionary other_texts(Random& random, std::uint64_t count) {
  static const std::array<std::string, 7> texts{"a", "b", "", "a", "\xC3", "\xFF\xFE", std::string(3000, 'x')};
  store::TextDictionary::Encoder encoder;
  for (std::uint64_t i = 0; i < std::min<std::uint64_t>(count, 5000); ++i) encoder.add(texts[pick(random, 7)], 0);
  return encoder.finish();
}

void spoil(Random& random, Column& column) {
  switch (pick(random, 14)) {
    case 0:
      column.codes = other_codes(random, column.rows, column.null_code + 2);
      break;
    case 1:
      column.codes = other_codes(random, other_number(random, column.rows) % 20'000, column.null_code + 2);
      break;
    case 2:
      column.type = other_type(random);
      if (!column.least.is_null()) column.least = other_value(random, column.type);
      if (!column.most.is_null()) column.most = other_value(random, column.type);
      break;
    case 3:
      column.layout = static_cast<Layout>(pick(random, 3));
      break;
    case 4:
      column.distinct = other_number(random, column.distinct);
      break;
    case 5:
      column.nulls = other_number(random, column.nulls);
      break;
    case 6:
      column.base = static_cast<std::int64_t>(other_number(random, static_cast<std::uint64_t>(column.base)));
      break;
    case 7:
      column.step = other_number(random, column.step);
      break;
    case 8:
      column.null_code = other_number(random, column.null_code);
      break;
    case 9:
      column.least = other_value(random, column.type);
      break;
    case 10:
      column.most = other_value(random, column.type);
      break;
    case 11:
      column.numbers = store::NumberDictionary(other_codes(random, column.distinct % 20'000, most), random(), 0);
      break;
    case 12:
      column.texts = other_texts(random, column.distinct);
      break;
    default:
      // An offset that wraps round: the smallest and the largest value fit, those between do not.
      column.layout = Layout::offset;
      column.null_code = 3;
      column.distinct = std::min<std::uint64_t>(column.rows, 3);
      column.step = (std::uint64_t{1} << 63) + pick(random, 3);
      column.codes = other_codes(random, column.rows, 3);
  }
}

void spoil(Random& random, Store& store) {
  StoredTable& table = store.tables[pick(random, store.tables.size())];
  StoredTable& other = store.tables[pick(random, store.tables.size())];
  const auto column_of = [&](StoredTable& of) -> StoredColumn& { return of.columns[pick(random, of.columns.size())]; };
  StoredLink* const link = store.links.empty() ? nullptr : &store.links[pick(random, store.links.size())];
  switch (pick(random, 18)) {
    case 0:
      table.rows = other_number(random, table.rows) % 100'000;
      break;
    case 1:
      std::swap(table, other);
      break;
    case 2:
      if (store.tables.size() > 1) store.tables.pop_back();
      break;
    case 3:
      table.columns.pop_back();
      if (table.columns.empty()) table.columns.emplace_back();
      break;
    case 4:
      std::swap(column_of(table), column_of(other));
      break;
    case 5:
      std::swap(column_of(table).data, column_of(other).data);
      break;
    case 6: {
      StoredColumn& column = column_of(table);
      column.broken = column.broken.empty() ? "no" : "";
      break;
    }
    case 7:
      if (!store.sources.empty()) {
        source::SourceFile& file = store.sources[pick(random, store.sources.size())];
        file.rows = other_number(random, file.rows);
      }
      break;
    case 8:
      if (link != nullptr) link->rows = other_codes(random, link->rows.size(), link->no_row + 2);
      break;
    case 9:
      if (link != nullptr)
        link->rows = other_codes(random, other_number(random, link->rows.size()) % 20'000, link->no_row + 1);
      break;
    case 10:
      if (link != nullptr) link->no_row = other_number(random, link->no_row);
      break;
    case 11:
      if (link != nullptr) std::swap(*link, store.links[pick(random, store.links.size())]);
      break;
    case 12:
      if (link != nullptr) link->broken = link->broken.empty() ? "no" : "";
      break;
    case 13:
      if (link != nullptr) link->form = static_cast<store::LinkForm>(pick(random, 4));
      break;
    case 14:
      if (link != nullptr) {
        link->table = pick(random, store.tables.size() + 1);
        link->column = pick(random, table.columns.size() + 1);
      }
      break;
    default:
      spoil(random, column_of(table).data);
  }
}

// Everything that reads a store, once.
void ask_everything(Random& random, const test::RandomModel& model, const Dataset& dataset) {
  for (int q = 0; q < 6; ++q) {
    const std::string query = test::with_meaning(dataset.model(), test::random_query(random, model)).text();
    Question question{query};
    (void)ask(dataset, question);
    if (q == 0) (void)explain(dataset, question);
    question.plan = Plan::naive;
    if (q < 2) (void)ask(dataset, question);
  }
  const Weighing weighing = weigh(dataset).value();
  (void)links(dataset);
  (void)audit(dataset);
  (void)dataset.warnings();
  for (const MeasureInfo& measure : dataset.model().measures()) (void)unfold(dataset, measure.name);
  for (const TableInfo& table : dataset.model().tables()) {
    for (const ColumnInfo& column : table.columns) {
      if (!chance(random, 15)) continue;
      RefactorSettings settings;
      settings.most_probes = 3;
      const std::string verb = column.is_calculated ? "inline " : "drop ";
      (void)refactor(dataset, fmt::format("{}{}.{}", verb, table.name, column.name), settings);
    }
  }
}

TEST(ForgedStores, AreAnsweredOrRefused) {
  const std::uint64_t seed = test::test_seed(20261206);
  fmt::print("seed {}\n", seed);
  Random random(seed);
  const std::size_t wanted = test::test_count(80);
  std::size_t forged = 0;
  std::size_t opened = 0;
  std::size_t verified = 0;
  while (forged < wanted) {
    test::RandomModel model = test::drawn_model(random, chance(random, 10) ? 5000 : 60);
    test::add_definitions(random, model);
    const test::SmallModel files(model.text(), model.files());
    if (!Dataset::open(files.path())) continue;
    const std::string path = files.folder.path("model.jrs");
    const std::string good = test::read_file(path);
    for (int i = 0; i < 10 && forged < wanted; ++i, ++forged) {
      SCOPED_TRACE(fmt::format("forged {}\n{}", forged, model.text()));
      std::ofstream(path, std::ios::binary) << good;
      auto store = store::open_store(path);
      ASSERT_TRUE(store) << test::messages(store.error());
      for (std::size_t n = 1 + pick(random, 2); n > 0; --n) spoil(random, *store);
      ASSERT_TRUE(store::write_store(*store, path));
      if (verify(path)) ++verified;
      const auto cancelled = std::make_shared<std::atomic<bool>>(false);
      Options options;
      options.cancelled = cancelled;
      options.memory = 500'000'000;
      const test::Deadline deadline(cancelled, std::chrono::seconds(2));
      // By itself, beside its text, and as what an unfinished change is made from.
      for (const std::string& name : {path, files.path()}) {
        const auto dataset = Dataset::open(name, options);
        if (!dataset) continue;
        ++opened;
        ask_everything(random, model, *dataset);
      }
      for (const auto& [file, csv] : model.files()) {
        if (chance(random, 50)) files.folder.write(file, csv);
      }
      (void)load(files.path(), options);
      if (HasFailure()) return;
    }
  }
  fmt::print("{} stores forged, {} times opened, {} verified\n", forged, opened, verified);
  EXPECT_GT(opened, forged / 20);
}

// What `load --verify` sees beyond checksums: a store that is well formed, and says what is not so.
TEST(ForgedStores, VerifyComparesWhatColumnsSayWithTheirRows) {
  const std::string text =
      "table f from csv \"f.csv\" { key id integer  k integer  x decimal(2)  r real  s text }\n"
      "table d from csv \"d.csv\" { key k integer  name text }\nlink f.k -> d.k\n";
  std::string rows = "id,k,x,r,s\n";
  for (int i = 0; i < 300; ++i) rows += fmt::format("{},{},{}.25,{},{}\n", i, i % 7, i % 50, i * 0.37, "abc"[i % 3]);
  const test::SmallModel files(text, {{"f.csv", rows}, {"d.csv", "k,name\n0,a\n1,b\n2,c\n3,d\n"}});
  (void)files.open();
  const std::string path = files.folder.path("model.jrs");
  EXPECT_TRUE(verify(path));
  const auto said = [&](const std::function<void(Store&)>& change) {
    auto store = store::open_store(path);
    change(*store);
    const std::string forged = files.folder.path("forged.jrs");
    EXPECT_TRUE(store::write_store(*store, forged));
    const auto verified = verify(forged);
    return verified ? "" : verified.error()[0].code + " " + verified.error()[0].message;
  };
  const auto column = [](Store& store, std::size_t c) -> Column& { return store.tables[0].columns[c].data; };
  EXPECT_EQ(said([](Store&) {}), "");
  EXPECT_EQ(said([&](Store& store) {
              std::vector<std::uint64_t> codes = column(store, 0).codes.decoded();
              codes[3] = codes[4];
              column(store, 0).codes = Codes::encode(codes);
            }),
            "JR-605 the store is damaged: column f.id has other values than it says");
  EXPECT_EQ(said([&](Store& store) {
              std::vector<std::uint64_t> codes = column(store, 0).codes.decoded();
              codes[3] = codes[4];
              column(store, 0).codes = Codes::encode(codes);
              --column(store, 0).distinct;
            }),
            "JR-605 the store is damaged: values of the key f.id repeat");
  EXPECT_EQ(said([&](Store& store) { --column(store, 4).distinct; }).substr(0, 7), "JR-605 ");
  EXPECT_EQ(said([&](Store& store) { column(store, 4).most = Value::of(std::string("zz")); }),
            "JR-605 the store is damaged: column f.s has other values than it says");
  EXPECT_EQ(said([&](Store& store) { column(store, 3).least = Value::of(-1.0); }).substr(0, 7), "JR-605 ");
  EXPECT_EQ(said([&](Store& store) {
              std::vector<std::uint64_t> to = store.links[0].rows.decoded();
              to[5] = (to[5] + 1) % 4;
              store.links[0].rows = Codes::encode(to);
            }),
            "JR-605 the store is damaged: link f.k -> d.k leads to other rows of d than its keys do");
}

TEST(ForgedStores, OneThatIsChangedWhileItIsOpenIsTold) {
  std::string rows = "id,g,x\n";
  for (int i = 0; i < 60'000; ++i) rows += fmt::format("{},{},{}\n", i, i * 7919 % 1013, i * 31 % 9973);
  const test::SmallModel files("table t from csv \"t.csv\" { key id integer  g integer  x integer }\n",
                               {{"t.csv", rows}});
  (void)files.open();
  const std::string path = files.folder.path("model.jrs");
  const std::string whole = test::read_file(path);
  {
    const auto dataset = Dataset::open(path);
    ASSERT_TRUE(dataset);
    ASSERT_TRUE(ask(*dataset, {"show sum(x for t)"}));
    fs::resize_file(path, 100);
    // What was verified before, and what was not.
    for (const char* question : {"show sum(x for t)", "by t.g show max(id for t)", "show sum(x for t)"}) {
      const auto answer = ask(*dataset, {question});
      ASSERT_FALSE(answer) << question;
      EXPECT_TRUE(answer.error()[0].code == "JR-607" || answer.error()[0].code == "JR-605");
    }
    EXPECT_FALSE(links(*dataset));
  }
  std::ofstream(path, std::ios::binary) << whole;
  const auto dataset = Dataset::open(path);
  ASSERT_TRUE(dataset);
  EXPECT_TRUE(ask(*dataset, {"show sum(x for t)"}));
  // As large as it was, and no longer what was opened.
  std::fstream(path, std::ios::in | std::ios::out | std::ios::binary) << whole.substr(0, 5000);
  EXPECT_EQ(test::codes(ask(*dataset, {"show sum(x for t)"}).error()), "JR-607");
  EXPECT_TRUE(ask(*Dataset::open(path), {"show sum(x for t)"}));
}

}  // namespace
}  // namespace juniper::forged_store_test
