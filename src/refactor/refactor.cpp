#include "juniper/refactor.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <map>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/replace_files.h"
#include "juniper/audit.h"
#include "juniper/sql.h"
#include "juniper/weigh.h"
#include "language/traverse.h"
#include "live/asker.h"
#include "loading/load_beside.h"
#include "loading/variants.h"
#include "model/access.h"
#include "model/hidden.h"
#include "refactor/narrowing.h"
#include "refactor/plan.h"
#include "refactor/proofs.h"
#include "refactor/reach.h"
#include "refactor/steps.h"
#include "refactor/text_edits.h"
#include "store/of_dataset.h"

namespace juniper {

namespace {

using namespace language;
using refactoring::Applied;
using refactoring::Claim;
using refactoring::Step;
using refactoring::Verb;

std::filesystem::path file_of_store(const Dataset& dataset) {
  return store_path(dataset.model().path(), dataset.options());
}

// The changed model over its data, in a store that is gone with the dataset.
Result<Dataset> load_changed(const Dataset& before, const Model& model) {
  auto loaded = loading::load_beside(model, file_of_store(before), store::store_of(before), before.options());
  if (!loaded) return tl::unexpected(loaded.error());
  return store::dataset_of(model, std::make_shared<const store::Store>(std::move(*loaded)), before.options(),
                           live::asker_of(model::checked(model)));
}

// Carries out the steps of a plan one after the other, on texts.
class Planner {
 public:
  enum class Blocked : std::uint8_t { is_an_error, is_left_out };
  explicit Planner(const Model& model, Blocked blocked = Blocked::is_an_error)
      : first_(model), model_(model), blocked_(blocked) {}

  // Steps whose claims compare row by row stand in one stage; those after which rows are others, or stand in another
  // order, in stages of their own.
  struct Stage {
    Model model;  // after its steps
    std::vector<Claim> claims;
  };

  // A later step may have to change what an inlined column has become, which it can't where that is the text of a
  // function: then it is written out in each measure.
  Result<void> run(const std::vector<Step>& steps) {
    Planner other = *this;
    auto done = try_run(steps);
    std::vector<Step> spelled_out = steps;
    bool inlines = false;
    for (Step& step : spelled_out) {
      step.spells_out = true;
      inlines = inlines || step.verb == Verb::inline_column;
    }
    if ((done && left_out.empty()) || !inlines) return done;
    if (auto again = other.try_run(std::move(spelled_out));
        again && (!done || other.left_out.size() < left_out.size())) {
      *this = std::move(other);
      return again;
    }
    return done;
  }

  const Model& model() const { return model_; }

  std::vector<std::string> titles;
  std::vector<Stage> stages;
  std::vector<std::string> notes;
  std::set<std::string> left_out;  // steps

 private:
  Result<void> try_run(std::vector<Step> steps) {
    std::stable_sort(steps.begin(), steps.end(), [](const Step& a, const Step& b) { return a.verb < b.verb; });
    // What goes need not be changed first.
    std::erase_if(steps, [&](const Step& step) {
      const bool goes = step.verb != Verb::drop && step.verb != Verb::store &&
                        std::any_of(steps.begin(), steps.end(), [&](const Step& other) {
                          return other.verb == Verb::drop && other.table == step.table && other.column == step.column;
                        });
      if (goes) notes.push_back(fmt::format("'{}' is left out: the column is dropped", step.text));
      return goes;
    });
    while (!steps.empty()) {
      // Of things to drop that name each other, those go first that nothing names.
      auto next = steps.begin();
      Result<Applied> done = refactoring::apply(model_, *next);
      for (auto other = next; !done && done.error()[0].code == "JR-803" && next->verb == Verb::drop;) {
        if (++other == steps.end()) break;
        if (auto tried = refactoring::apply(model_, *other)) {
          done = std::move(tried);
          next = other;
        }
      }
      if (!done && went_before(*next, done.error())) {
        notes.push_back(fmt::format("'{}' was done by a step before it", next->text));
        steps.erase(next);
        continue;
      }
      if (!done && blocked_ == Blocked::is_left_out) {
        notes.push_back(fmt::format("'{}' is left out: {}", next->text, done.error()[0].message));
        left_out.insert(next->text);
        steps.erase(next);
        continue;
      }
      if (!done) return tl::unexpected(done.error());
      auto read = Model::parse(done->texts, first_.options());
      if (!read) return tl::unexpected(read.error());
      if (auto kept = refactoring::keep_captured(model_, *read, *next); !kept) return tl::unexpected(kept.error());
      model_ = std::move(*read);
      titles.push_back(next->text);
      const Verb kind = next->verb < Verb::trim ? Verb::drop : next->verb;
      if (stages.empty() || kind != stage_) stages.push_back({model_, {}});
      stage_ = kind;
      stages.back().model = model_;
      for (Claim& claim : done->claims) {
        claim.step = next->text;
        stages.back().claims.push_back(std::move(claim));
      }
      notes.insert(notes.end(), done->notes.begin(), done->notes.end());
      steps.erase(next);
    }
    return {};
  }

  // True if a column is gone that was there at first: an earlier step has moved it away with another.
  bool went_before(const Step& step, const Diagnostics& errors) const {
    const bool takes_away = step.verb == Verb::inline_column || step.verb == Verb::drop;
    return takes_away && !step.table.empty() && errors[0].code == "JR-801" &&
           refactoring::find_column(model::checked(first_), step).has_value();
  }

  Model first_;
  Model model_;
  Blocked blocked_;
  Verb stage_ = Verb::drop;  // the last of its verbs
};

// True if the columns stand in the changed model that a claim compares with.
bool is_there(const CheckedModel& after, const Claim& claim) {
  using Kind = Claim::Kind;
  const bool about_column = claim.kind == Kind::stored || claim.kind == Kind::split || claim.kind == Kind::retyped ||
                            claim.kind == Kind::rounded;
  if (!about_column) return true;
  std::vector<std::string> columns = claim.made;
  if (columns.empty()) columns.push_back(claim.column);
  const auto table = after.find_table(claim.table);
  return table && std::all_of(columns.begin(), columns.end(),
                              [&](const std::string& name) { return after.tables[*table].find(name).has_value(); });
}

refactoring::Changed changed_by(const CheckedModel& before, const CheckedModel& after,
                                const std::vector<Planner::Stage>& stages) {
  refactoring::Changed changed;
  const auto add = [&](const Claim& claim) {
    const TableIndex t = *before.find_table(claim.table);
    if (claim.column.empty()) {
      changed.tables.insert(t);
    } else if (claim.kind == Claim::Kind::relinked) {
      changed.tables.insert(before.links[claim.link].to.table);
    } else if (const auto column = before.tables[t].find(claim.column)) {
      changed.columns.insert({t, *column});
    } else if (const auto made = after.tables[t].find(claim.column)) {
      // A new column: what it is built on is read in another way.
      for (const ColumnRef& ref : column_refs(after.tables[t].columns[*made].expression))
        changed.columns.insert({*before.find_table(after.tables[ref.column.table].name), ref.column.column});
    }
  };
  for (const Planner::Stage& stage : stages) {
    std::for_each(stage.claims.begin(), stage.claims.end(), add);
    // Reals that are added up in another order differ in their last digits.
    if (std::any_of(stage.claims.begin(), stage.claims.end(),
                    [](const Claim& claim) { return claim.kind == Claim::Kind::reordered; }))
      changed.tolerance.relative = 1e-9;
  }
  return changed;
}

// What a column's part of a load took. Columns of a source are encoded several at a time: their work counts for the
// time in which that of their table was done.
std::int64_t load_time(const store::StoredTable& table, const store::StoredColumn& column) {
  if (column.calculated) return column.evaluate_nanoseconds + column.encode_nanoseconds;
  std::int64_t work = 0;
  for (const store::StoredColumn& each : table.columns) work += each.calculated ? 0 : each.encode_nanoseconds;
  return work == 0
             ? 0
             : static_cast<std::int64_t>(static_cast<double>(column.encode_nanoseconds) *
                                         static_cast<double>(table.encode_nanoseconds) / static_cast<double>(work));
}

// What loading everything takes: each part as it took when it was last read and computed.
std::int64_t whole_load(const store::Store& store) {
  std::int64_t nanoseconds = 0;
  for (const store::StoredTable& table : store.tables) {
    nanoseconds += table.read_nanoseconds + table.encode_nanoseconds;
    for (const store::StoredColumn& column : table.columns) {
      if (column.calculated) nanoseconds += column.evaluate_nanoseconds + column.encode_nanoseconds;
    }
  }
  for (const store::StoredLink& link : store.links) nanoseconds += link.resolve_nanoseconds;
  return nanoseconds;
}

BytesByPart bytes_by_part(const Dataset& dataset) {
  BytesByPart bytes;
  const Weighing weighing = weigh(dataset).value();  // of loaded tables, which is never an error
  for (const TableWeight& table : weighing.tables) {
    bytes.dictionaries += table.dictionary_bytes;
    bytes.codes += table.code_bytes;
    bytes.links += table.link_bytes;
  }
  bytes.rest = weighing.overhead_bytes;
  return bytes;
}

Ledger ledger_of(const Dataset& before, const Dataset& after) {
  Ledger ledger;
  ledger.bytes_before = bytes_by_part(before);
  ledger.bytes_after = bytes_by_part(after);
  ledger.load_nanoseconds_before = whole_load(store::store_of(before));
  ledger.load_nanoseconds_after = whole_load(store::store_of(after));
  // What one side has and the other hasn't, or holds in another type.
  const auto only_in = [](const store::Store& here, const store::Store& there) {
    std::vector<Ledger::Column> columns;
    for (const store::StoredTable& table : here.tables) {
      const auto other = std::find_if(there.tables.begin(), there.tables.end(),
                                      [&](const store::StoredTable& t) { return t.name == table.name; });
      for (const store::StoredColumn& column : table.columns) {
        const bool same = other != there.tables.end() &&
                          std::any_of(other->columns.begin(), other->columns.end(), [&](const store::StoredColumn& c) {
                            return c.name == column.name && c.data.type == column.data.type;
                          });
        if (!same) {
          columns.push_back({table.name + "." + column.name, column.data.bytes(), load_time(table, column)});
        }
      }
    }
    return columns;
  };
  ledger.removed = only_in(store::store_of(before), store::store_of(after));
  ledger.added = only_in(store::store_of(after), store::store_of(before));
  return ledger;
}

}  // namespace

bool Refactoring::proved() const {
  return std::all_of(rows.begin(), rows.end(), [](const RowProof& p) { return p.differing == 0; }) &&
         std::all_of(queries.begin(), queries.end(), [](const QueryProof& p) { return p.comparison.same(); }) &&
         probes.differing.empty() &&
         std::all_of(sqlite.begin(), sqlite.end(), [](const SqliteProof& p) { return p.different == 0; });
}

namespace {

void report_progress(const Dataset& dataset, const std::string& step) {
  if (dataset.options().progress) dataset.options().progress({step, 0, 0, 0});
}

// Loads each stage of a plan from the one before, proves the rows that it claims, and gives each proof to take(claim,
// proof). The last stage comes out.
template <class Take>
Result<Dataset> prove_stages(const Dataset& dataset, const Planner& planner, Plan plan, const Take& take) {
  Dataset before = dataset;
  for (const Planner::Stage& stage : planner.stages) {
    auto after = load_changed(before, stage.model);
    if (!after) return tl::unexpected(after.error());
    for (const Claim& claim : stage.claims) {
      if (!is_there(model::checked(after->model()), claim)) continue;  // a later step has taken away what was made
      report_progress(dataset, "proving the rows of " + claim.table);
      auto proof = refactoring::prove_rows(before, *after, claim, plan);
      if (!proof) return tl::unexpected(proof.error());
      take(claim, std::move(*proof));
    }
    before = std::move(*after);
  }
  return before;
}

// Lets SQLite answer each saved query on the model after, and the queries of row proofs on the model that they are for.
Result<void> ask_sqlite(const Dataset& before, const Dataset& after, Refactoring& made) {
  std::vector<std::string> of_before;
  std::vector<std::string> of_after = names_of(after.model().queries());
  for (const RowProof& proof : made.rows) {
    if (!proof.query.empty()) (proof.asked_before ? of_before : of_after).push_back(proof.query);
  }
  for (const auto& [dataset, queries] : {std::pair(&before, &of_before), std::pair(&after, &of_after)}) {
    if (queries->empty()) continue;
    auto twin = SqliteTwin::open(*dataset);
    if (!twin) return tl::unexpected(twin.error());
    for (const std::string& query : *queries) {
      const auto agreement = twin->compare({query});
      if (!agreement) return tl::unexpected(agreement.error());
      made.sqlite.push_back({query, agreement->cells, agreement->different});
    }
  }
  return {};
}

// Where the differences come from, of the first few measures that queries or probes found.
void narrow_down(const Dataset& before, const Dataset& after, Refactoring& made) {
  constexpr std::size_t most = 2;
  std::vector<std::string> measures;
  const auto look = [&](const QueryProof& proof) {
    for (const Difference& difference : proof.comparison.samples) {
      const bool known = std::find(measures.begin(), measures.end(), difference.column) != measures.end();
      if (!known && measures.size() < most && model::checked(before.model()).find_measure(difference.column))
        measures.push_back(difference.column);
    }
  };
  std::for_each(made.queries.begin(), made.queries.end(), look);
  std::for_each(made.probes.differing.begin(), made.probes.differing.end(), look);
  for (const std::string& measure : measures) {
    Narrowing narrowing = refactoring::narrow({before, after, {}, "after the change"}, measure);
    if (!narrowing.sources.empty() || !narrowing.rows.empty()) made.differences.push_back(std::move(narrowing));
  }
}

// Those captured queries that the change reaches, with the parameters with which they are asked. One that gives no answer
// before has none to lose.
Result<void> prove_captured(const Dataset& before, const Dataset& after, const refactoring::Changed& changed,
                            const refactoring::Reach& reach, const RefactorSettings& settings, Refactoring& made) {
  const CheckedModel& checked = model::checked(before.model());
  loading::Variants variants_before(loading::Placed{before, file_of_store(before)});
  loading::Variants variants_after(loading::Placed{after, file_of_store(before)});
  const std::vector<CapturedQuery>& captured = before.model().options().captured;
  std::map<std::uint32_t, const Query*> understood;
  for (const Query& query : checked.captured) understood.emplace(*query.captured, &query);
  std::vector<const CapturedQuery*> reached;
  for (std::uint32_t i = 0; i < captured.size(); ++i) {
    const Query* query = checked.find_query(captured[i].query);
    if (const auto at = understood.find(i); at != understood.end()) query = at->second;
    if (query == nullptr || (!query->captured && captured[i].set.empty())) continue;
    ++made.captured;
    if (reach.reads(*query)) reached.push_back(&captured[i]);
  }
  made.captured_reached = reached.size();
  std::stable_sort(reached.begin(), reached.end(),
                   [](const CapturedQuery* a, const CapturedQuery* b) { return a->times > b->times; });
  constexpr std::size_t most_timed = 20;
  std::size_t number = 0;
  std::vector<std::string> unanswered;
  for (const CapturedQuery* asked : reached) {
    if (++number > settings.most_captured) break;
    report_progress(before, "proving the query " + asked->place);
    ++made.captured_asked;
    const auto was = variants_before.with(asked->set);
    const auto answer = was ? ask((*was)->dataset, {asked->query}) : tl::unexpected(was.error());
    if (!answer) {
      unanswered.push_back(fmt::format("{} ({})", asked->place, answer.error()[0].message));
      continue;
    }
    const auto is = variants_after.with(asked->set);
    if (!is) return tl::unexpected(is.error());
    QueryProof proof = refactoring::prove_query((*was)->dataset, (*is)->dataset, changed, asked->query,
                                                number <= most_timed ? &settings.timing : nullptr);
    proof.query = asked->place;
    proof.is_captured = true;
    made.queries.push_back(std::move(proof));
  }
  if (!unanswered.empty()) {
    made.notes.push_back(fmt::format(
        "captured queries that give no answer before the change, and were not compared: {}; the first is {}",
        unanswered.size(), unanswered[0]));
  }
  if (const Diagnostics unknown = before.model().not_understood(); !unknown.empty()) {
    made.notes.push_back(fmt::format(
        "captured queries that the model does not understand, and that count for nothing: {}; the first is {} ({})",
        unknown.size(), unknown[0].place.file, unknown[0].message));
  }
  return {};
}

// Loads what the planner made of the texts, and proves it.
Result<Refactoring> carry_out(const Dataset& dataset, const Planner& planner, const RefactorSettings& settings) {
  Refactoring made;
  made.steps = planner.titles;
  made.title = fmt::format("{}", fmt::join(planner.titles, ", "));
  made.notes = planner.notes;
  const std::vector<ModelText> before_texts = dataset.model().texts();
  const std::vector<ModelText> after_texts = planner.model().texts();
  for (std::size_t file = 0; file < before_texts.size(); ++file) {
    made.texts.push_back({before_texts[file].name, before_texts[file].text, after_texts[file].text});
    made.diff += refactoring::unified_diff(before_texts[file].text, after_texts[file].text, before_texts[file].name);
  }
  const auto after = prove_stages(dataset, planner, settings.row_plan,
                                  [&](const Claim&, RowProof proof) { made.rows.push_back(std::move(proof)); });
  if (!after) return tl::unexpected(after.error());
  const refactoring::Changed changed =
      changed_by(model::checked(dataset.model()), model::checked(planner.model()), planner.stages);
  made.tolerance = changed.tolerance;
  const CheckedModel& checked = model::checked(dataset.model());
  const refactoring::Reach reach(checked, changed);
  for (const Query& query : checked.queries) {
    report_progress(dataset, "proving the query " + query.name);
    made.queries.push_back(refactoring::prove_query(dataset, *after, changed, query.name,
                                                    reach.reads(query) ? &settings.timing : nullptr));
  }
  if (auto proved = prove_captured(dataset, *after, changed, reach, settings, made); !proved)
    return tl::unexpected(proved.error());
  report_progress(dataset, "asking probes");
  made.probes = refactoring::probe(dataset, *after, changed, settings);
  if (settings.against == Against::sqlite) {
    report_progress(dataset, "asking SQLite");
    if (auto asked = ask_sqlite(dataset, *after, made); !asked) return tl::unexpected(asked.error());
  }
  narrow_down(dataset, *after, made);
  made.ledger = ledger_of(dataset, *after);
  made.after = *after;
  return made;
}

// The steps that findings name, each once; and those that are left out, as it is not known that no query needs what they
// drop.
struct NamedSteps {
  std::vector<std::string> steps;
  std::vector<std::string> left_out;
};
Result<NamedSteps> steps_of(const Dataset& dataset, const std::vector<std::string>& codes,
                            const RefactorSettings& plan_settings) {
  AuditSettings settings;
  settings.only = codes;
  const auto found = audit(dataset, settings);
  if (!found) return tl::unexpected(found.error());
  NamedSteps named;
  const bool may_drop = !codes.empty() || plan_settings.queries_are_known;
  for (const Finding& finding : found->findings) {
    std::vector<std::string>& steps = finding.unused && !may_drop ? named.left_out : named.steps;
    if (!finding.step.empty() && std::find(steps.begin(), steps.end(), finding.step) == steps.end())
      steps.push_back(finding.step);
  }
  return named;
}

// Of steps that drop what no saved query uses, where it is not known that no other does.
std::string not_known(const std::set<std::string>& steps) {
  return fmt::format(
      "left out, as queries that are not known may use what these drop: {}; with a baseline beside the text or "
      "a log of queries it is known what is asked, and 'apply all' drops them all the same",
      fmt::join(steps, ", "));
}

std::string joined(const std::vector<std::string>& steps) {
  return fmt::format("{}", fmt::join(steps, "\n"));
}

}  // namespace

Result<Refactoring> refactor(const Dataset& dataset, const std::string& text, const RefactorSettings& settings) {
  if (auto may = model::for_everybody(model::checked(dataset.model()), "a refactoring"); !may)
    return tl::unexpected(may.error());

  return base::guarded([&]() -> Result<Refactoring> {
    auto steps = refactoring::parse_plan(text);
    if (!steps) return tl::unexpected(steps.error());
    Planner planner(dataset.model());
    if (auto planned = planner.run(*steps); !planned) return tl::unexpected(planned.error());
    return carry_out(dataset, planner, settings);
  });
}

Result<Refactoring> apply_remedies(const Dataset& dataset, const std::vector<std::string>& codes,
                                   const RefactorSettings& settings) {
  if (auto may = model::for_everybody(model::checked(dataset.model()), "a refactoring"); !may)
    return tl::unexpected(may.error());
  return base::guarded([&]() -> Result<Refactoring> {
    std::vector<std::string> steps;
    std::set<std::string> tried;
    std::vector<std::string> notes;
    std::set<std::string> not_dropped;
    auto fresh = steps_of(dataset, codes, settings);
    // What goes may leave something else unused: the changed model is looked at again, until nothing new is found.
    for (;;) {
      if (!fresh) return tl::unexpected(fresh.error());
      const std::size_t before = steps.size();
      for (const std::string& step : fresh->steps) {
        if (tried.insert(step).second) steps.push_back(step);
      }
      not_dropped.insert(fresh->left_out.begin(), fresh->left_out.end());
      if (steps.empty()) {
        return tl::unexpected(base::error(
            "JR-808", not_dropped.empty() ? "no finding names a step that could mend it" : not_known(not_dropped),
            "juniper audit tells what a human must decide"));
      }
      auto read = refactoring::parse_plan(joined(steps));
      if (!read) return tl::unexpected(read.error());
      Planner planner(dataset.model(), Planner::Blocked::is_left_out);
      if (auto planned = planner.run(*read); !planned) return tl::unexpected(planned.error());
      for (const std::string& note : planner.notes) {
        if (std::find(notes.begin(), notes.end(), note) == notes.end()) notes.push_back(note);
      }
      std::erase_if(steps, [&](const std::string& step) { return planner.left_out.contains(step); });
      if (steps.size() == before || planner.titles.empty()) {
        if (planner.titles.empty())
          return tl::unexpected(base::error("JR-808", "every step that findings name is blocked: " + planner.notes[0],
                                            "juniper refactor with one of the steps tells all that is in its way"));
        planner.notes = notes;
        if (!not_dropped.empty()) planner.notes.push_back(not_known(not_dropped));
        return carry_out(dataset, planner, settings);
      }
      // A step whose rows differ, as a text that is more than its number, is left out.
      const auto after = prove_stages(dataset, planner, Plan::engine, [&](const Claim& claim, const RowProof& proof) {
        if (proof.differing == 0) return;
        notes.push_back(fmt::format("'{}' is left out: {}", claim.step, proof.samples[0]));
        std::erase(steps, claim.step);
      });
      if (!after) return tl::unexpected(after.error());
      fresh = steps_of(*after, codes, settings);
    }
  });
}

Result<void> write(const Dataset& dataset, const Refactoring& refactoring) {
  return base::guarded([&]() -> Result<void> {
    const auto fail = [](std::string code, std::string message, std::string fix) {
      return tl::unexpected(base::error(std::move(code), std::move(message), std::move(fix)));
    };
    if (!refactoring.proved() || !refactoring.after)
      return fail("JR-804", "the change was not written: its proof failed",
                  "look at the differing rows and cells above");
    if (refactoring.texts[0].path != dataset.model().path()) {
      return fail("JR-806", "this change was made for another model text", "run the refactoring on this one");
    }
    // The texts first; a store that does not fit them yet is loaded again by whoever needs it.
    std::vector<base::Replacement> files;
    for (const TextChange& text : refactoring.texts) files.push_back({text.path, text.before, text.after});
    if (auto written = base::replace_files(files); !written) return written;
    store::Store store = store::store_of(*refactoring.after);
    return store::write_store(store, file_of_store(dataset));
  });
}

}  // namespace juniper
