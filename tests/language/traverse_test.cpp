#include "language/traverse.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <array>

#include "juniper/model.h"
#include "model/access.h"
#include "model/uses.h"
#include "random/drawn_model.h"
#include "random/random_query.h"
#include "refactor/text_edits.h"
#include "support/support.h"

namespace juniper::traverse_test {
namespace {

using namespace language;

// What users say can be tried: without the declaration of a thing, the text can still be read exactly when nothing uses
// it. Gives what is not so.
class Removals {
 public:
  explicit Removals(const Model& model) : read_(model), model_(model::checked(model)), uses_(model_) {}

  std::string wrong() {
    for (TableIndex t = 0; t < model_.tables.size(); ++t) {
      for (std::uint32_t c = 0; c < model_.tables[t].columns.size(); ++c) {
        const Column& column = model_.tables[t].columns[c];
        // Columns of calculated tables are taken from their rows, and a table needs one.
        if (!column.from_row && model_.tables[t].columns.size() > 1)
          try_without(column.span, model_.column_name({t, c}), uses_.of({t, c}));
      }
    }
    for (MeasureIndex m = 0; m < model_.measures.size(); ++m)
      try_without(model_.measures[m].span, model_.measures[m].name, uses_.of_measure(m));
    for (std::uint32_t p = 0; p < model_.parameters.size(); ++p)
      try_without(model_.parameters[p].span, model_.parameters[p].name, uses_.of_parameter(p));
    return wrong_;
  }
  std::size_t used = 0;
  std::size_t unused = 0;

 private:
  void try_without(Span declaration, const std::string& name, std::vector<model::User> users) {
    // Stands in the declaration itself.
    std::erase_if(users, [](const model::User& user) { return user.kind == UserKind::declared; });
    refactoring::TextEdits edits;
    edits.replace(declaration, "");
    const auto texts = edits.apply(read_.texts());
    const auto without = Model::parse("m.ridge", texts[0].text);
    ++(users.empty() ? unused : used);
    if (without.has_value() == users.empty()) return;
    wrong_ += fmt::format("without {}, ", name);
    if (without) {
      wrong_ += fmt::format("which {} {} uses, it can be read\n", to_string(users[0].kind), users[0].name);
    } else {
      wrong_ += "which nothing uses: " + test::messages(without.error());
    }
  }

  const Model& read_;
  const CheckedModel& model_;
  const model::Uses uses_;
  std::string wrong_;
};

// Some of a drawn schema's definitions can't be read: several paths lead to what they name.
void keep_what_can_be_read(test::RandomModel& model) {
  const auto reads = [&] { return Model::parse("m.ridge", model.text()).has_value(); };
  std::vector<std::string> measures;
  std::vector<std::string> calculated(model.calculated.size());
  measures.swap(model.measures);
  calculated.swap(model.calculated);
  for (std::size_t t = 0; t < calculated.size(); ++t) {
    model.calculated[t].swap(calculated[t]);
    if (!reads()) model.calculated[t].clear();
  }
  for (std::string& measure : measures) {
    model.measures.push_back(std::move(measure));
    if (!reads()) model.measures.pop_back();
  }
}

TEST(Traverse, WhatNothingUsesCanGoAndNothingElse) {
  const std::uint64_t seed = test::test_seed(7300);
  SCOPED_TRACE(fmt::format("seed {}", seed));
  test::Random random(seed);
  std::size_t used = 0;
  std::size_t unused = 0;
  for (int round = 0; round < 12; ++round) {
    test::RandomModel model = round % 2 == 0 ? test::drawn_model(random, 4) : test::random_model(random, 4);
    test::add_definitions(random, model);
    keep_what_can_be_read(model);
    std::string text = model.text();
    for (int q = 0; q < 10; ++q) {
      const std::string query = fmt::format("query q{} {{ {} }}\n", q, test::random_query(random, model).text());
      if (Model::parse("m.ridge", text + query)) text += query;
    }
    const auto read = Model::parse("m.ridge", text);
    ASSERT_TRUE(read) << test::messages(read.error()) << text;
    Removals removals(*read);
    EXPECT_EQ(removals.wrong(), "") << text;
    used += removals.used;
    unused += removals.unused;
  }
  EXPECT_GT(used, 100U);
  EXPECT_GT(unused, 30U);
}

// Every role in one text: each names its column in the manner that it has there, and nothing else does.
TEST(Traverse, EveryRoleIsMet) {
  const std::string text = R"(model "network"
param limit = 5
table sessions from csv "s.csv" sorted by started {
  key id integer  bay_id integer  day date  started datetime  energy decimal(3)  idle integer  channel text sorted by rank
  rank integer  note text used by "finance"  twice = energy * limit
  key (day, started)
}
table bays from csv "b.csv" reached from sessions { key bay_id integer  power integer }
table days from csv "d.csv" { key day date  month integer }
link sessions.bay_id -> bays.bay_id
link sessions.day -> days.day
calendar days.day periods (month)
table busy = distinct(channel for sessions where idle > limit)
measure all_energy = sum(energy for sessions)
measure strong = (all_energy where bays.power > 50)
measure anywhere = (strong across sessions.channel) used by "the report"
query q {
  with measure own = (all_energy where sessions.idle > 1)
  by sessions.rank show own, anywhere where sessions.idle < limit having own > 3
}
reader coast { bays where power > limit  hide sessions.note, measure strong }
measure wrong = sum(nowhere for sessions) + month
)";
  ReadOptions options;
  options.disable_wrong = true;
  const auto read = Model::parse("m.ridge", text, options);
  ASSERT_TRUE(read) << test::messages(read.error());
  const CheckedModel& model = model::checked(*read);
  constexpr std::array roles{"measure",   "column",       "table",     "calendar", "link",    "value order",
                             "row order", "reached from", "table key", "draft",    "key",     "show",
                             "where",     "having",       "declared",  "reader",   "disabled"};
  constexpr std::array manners{"reads", "filters by", "groups by", "asks about", "drops", "follows", "lists"};
  std::string seen;
  each_definition(model, [&](const Definition& definition) {
    seen += fmt::format("{} {}:", roles.at(static_cast<std::size_t>(definition.role)), definition.name);
    each_mention(definition, [&](const Mention& mention) {
      seen += fmt::format(" {} ", manners.at(static_cast<std::size_t>(mention.manner)));
      if (mention.column) seen += model.column_name(*mention.column);
      if (mention.table) seen += model.tables[*mention.table].name;
      if (mention.measure) seen += definition.model->measures[*mention.measure].name;
      if (mention.parameter) seen += model.parameters[*mention.parameter].name;
    });
    seen += '\n';
  });
  EXPECT_EQ(seen, R"(measure all_energy: reads sessions reads sessions.energy
measure strong: reads all_energy filters by bays.power
measure anywhere: drops sessions.channel reads strong
column sessions.twice: reads sessions.energy reads limit
table busy: reads sessions groups by sessions.channel reads limit reads sessions.idle reads sessions.channel
calendar days.day: lists days.day lists days.month
link sessions.bay_id -> bays.bay_id: lists sessions.bay_id lists bays.bay_id
link sessions.day -> days.day: lists sessions.day lists days.day
value order sessions.channel: lists sessions.rank
row order sessions: lists sessions.started
reached from bays: lists sessions
table key sessions: lists sessions.day lists sessions.started
draft q: reads all_energy filters by sessions.idle
key q: groups by sessions.rank
where q: filters by sessions.idle reads limit
show q: reads own
show q: reads anywhere
having q: reads own
declared finance: lists sessions.note
declared the report: lists anywhere
reader coast: reads limit reads bays.power lists bays
reader coast: lists sessions.note lists strong
disabled wrong: lists sessions lists days.month
)");
}

}  // namespace
}  // namespace juniper::traverse_test
