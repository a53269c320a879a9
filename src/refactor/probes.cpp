// Queries made up to find out whether a change of a model changes a number.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/parallel.h"
#include "engine/query/ask.h"
#include "language/lexer.h"
#include "model/access.h"
#include "refactor/proofs.h"
#include "refactor/reach.h"
#include "refactor/sample.h"
#include "store/of_dataset.h"
#include "store/store.h"

namespace juniper::refactoring {

namespace {

using namespace language;

class Prober {
 public:
  Prober(const Dataset& before, const Dataset& after, const Changed& changed, const RefactorSettings& settings)
      : before_(before),
        after_(after),
        changed_(changed),
        model_(model::checked(before.model())),
        settings_(settings) {}

  ProbeProof run() {
    const Reach reach(model_, changed_);
    for (const Measure& measure : model_.measures) {
      if (reach.reads(measure.expression) && model::checked(after_.model()).find_measure(measure.name))
        proof_.measures.push_back(measure.name);
    }
    if (proof_.measures.empty()) return std::move(proof_);
    const Sample sampled = sample(before_, after_, changed_, settings_.sample_rows);
    proof_.sample_rows = sampled.rows;
    const std::vector<std::string> texts = probes();
    proof_.possible = texts.size();
    // Many small questions: each on one thread, several at once.
    const unsigned threads = base::thread_count(before_.options().threads);
    const Dataset few_before = on_one_thread(sampled.before);
    const Dataset few_after = on_one_thread(sampled.after);
    for (std::size_t begin = 0; begin < texts.size() && is_within_budget(); begin += at_once) {
      const std::size_t end =
          std::min({begin + at_once, texts.size(), static_cast<std::size_t>(settings_.most_probes)});
      std::vector<Outcome> outcomes(end - begin);
      base::parallel_for(outcomes.size(), threads,
                         [&](std::size_t i) { outcomes[i] = ask_both(few_before, few_after, texts[begin + i]); });
      for (std::size_t i = 0; i < outcomes.size(); ++i) add(texts[begin + i], outcomes[i], sampled.rows == 0);
    }
    return std::move(proof_);
  }

 private:
  static constexpr std::uint64_t few = 40;      // values of a column that is paired with others
  static constexpr std::uint64_t filters = 12;  // … each of whose values is filtered by
  static constexpr std::size_t most_differing = 5;
  static constexpr std::uint64_t least_probes = 40;  // however many rows they read
  static constexpr std::size_t at_once = 20;

  bool is_within_budget() const {
    return proof_.asked < settings_.most_probes &&
           (proof_.asked < least_probes || proof_.rows_read < settings_.most_probe_rows);
  }

  struct Key {
    ColumnId id;
    std::string name;
    const store::Column* data;
  };

  // What can be grouped by in both models.
  std::vector<Key> keys() {
    std::vector<Key> found;
    const CheckedModel& after = model::checked(after_.model());
    for (TableIndex t = 0; t < model_.tables.size(); ++t) {
      for (std::uint32_t c = 0; c < model_.tables[t].columns.size(); ++c) {
        const store::StoredColumn& stored = store::store_of(before_).tables[t].columns[c];
        // What has got another type can't be compared as a key; its own proof is by rows.
        const auto there = after.find_table(model_.tables[t].name);
        const auto same = there ? after.tables[*there].find(model_.tables[t].columns[c].name) : std::nullopt;
        if (!stored.broken.empty() || !same || after.tables[*there].columns[*same].type != stored.data.type) continue;
        if (stored.data.distinct > settings_.most_values) {
          ++proof_.wide_columns;
          continue;
        }
        found.push_back({{t, c},
                         written_name(model_.tables[t].name) + "." + written_name(model_.tables[t].columns[c].name),
                         &stored.data});
      }
    }
    return found;
  }

  // The measures that can be shown by columns of a table, as a list; "" if there are none.
  const std::string& shown_by(TableIndex table, const std::string& column) {
    const auto known = shown_.find(table);
    if (known != shown_.end()) return known->second;
    std::string list;
    for (const std::string& measure : proof_.measures) {
      const std::string name = written_name(measure);
      if (engine::prepare(before_.model(), {fmt::format("by {} show {}", column, name)}))
        list += (list.empty() ? "" : ", ") + name;
    }
    return shown_.emplace(table, std::move(list)).first->second;
  }

  // Those that show most come first: everything, by each column, with each value of small columns filtered, by pairs.
  std::vector<std::string> probes() {
    std::vector<std::string> texts;
    std::string all;
    for (const std::string& measure : proof_.measures) all += (all.empty() ? "" : ", ") + written_name(measure);
    texts.push_back("show " + all);
    const std::vector<Key> columns = keys();
    for (const Key& key : columns) {
      const std::string& list = shown_by(key.id.table, key.name);
      if (!list.empty()) texts.push_back(fmt::format("by {} show {} total grand", key.name, list));
    }
    for (const Key& key : columns) {
      const std::string& list = shown_by(key.id.table, key.name);
      if (list.empty() || key.data->null_code > filters || key.data->type.kind == TypeKind::real) continue;
      for (std::uint64_t code = 0; code < key.data->null_code; ++code) {
        texts.push_back(fmt::format("show {} where {} = {}", list, key.name,
                                    written_value(key.data->value_of(code), key.data->type)));
      }
    }
    for (std::size_t a = 0; a < columns.size(); ++a) {
      for (std::size_t b = a + 1; b < columns.size(); ++b) {
        if (columns[a].data->distinct > few || columns[b].data->distinct > few) continue;
        if (columns[a].data->distinct < 2 || columns[b].data->distinct < 2) continue;
        const std::string list =
            common(shown_by(columns[a].id.table, columns[a].name), shown_by(columns[b].id.table, columns[b].name));
        if (!list.empty())
          texts.push_back(fmt::format("by {}, {} show {} total {}, grand", columns[a].name, columns[b].name, list,
                                      columns[a].name));
      }
    }
    return texts;
  }

  // The measures of both lists.
  std::string common(const std::string& a, const std::string& b) const {
    std::string list;
    const auto has = [](const std::string& in, const std::string& name) {
      return (", " + in + ", ").find(", " + name + ", ") != std::string::npos;
    };
    for (const std::string& measure : proof_.measures) {
      const std::string name = written_name(measure);
      if (has(a, name) && has(b, name)) list += (list.empty() ? "" : ", ") + name;
    }
    return list;
  }

  struct Outcome {
    Comparison comparison;
    bool is_refused = false;  // with the same error before and after
    std::uint64_t rows_read = 0;
  };

  Outcome ask_both(const Dataset& before, const Dataset& after, const std::string& text) const {
    const auto was = ask(before, {text});
    const auto is = ask(after, {text});
    Outcome outcome;
    if (!was && !is && was.error()[0].code == is.error()[0].code) {
      outcome.is_refused = true;
    } else if (was && is) {
      outcome.rows_read = was->rows_scanned + is->rows_scanned;
      outcome.comparison = compare(*was, *is, most_differences, changed_.tolerance);
    } else {
      outcome.comparison.differences = 1;
      outcome.comparison.samples.push_back({DifferenceKind::columns, "", "", was ? "an answer" : was.error()[0].message,
                                            is ? "an answer" : is.error()[0].message, ""});
    }
    return outcome;
  }

  void add(const Outcome& outcome) {
    proof_.refused += outcome.is_refused ? 1 : 0;
    proof_.rows_read += outcome.rows_read;
    proof_.cells += outcome.comparison.cells;
  }

  // Over all rows the first is asked, of everything, and what differs over some of them.
  void add(const std::string& text, const Outcome& outcome, bool is_of_all) {
    const bool is_first = proof_.asked++ == 0;
    add(outcome);
    QueryProof proof;
    proof.query = text;
    proof.comparison = outcome.comparison;
    if (is_of_all) {
      ++proof_.asked_of_all;
    } else if (is_first || !outcome.comparison.same()) {
      ++proof_.asked_of_all;
      const Outcome of_all = ask_both(before_, after_, text);
      add(of_all);
      proof.comparison = of_all.comparison;
    } else {
      return;
    }
    if (!proof.comparison.same() && proof_.differing.size() < most_differing)
      proof_.differing.push_back(std::move(proof));
  }

  static Dataset on_one_thread(const Dataset& dataset) {
    Options options = dataset.options();
    options.threads = 1;
    return store::dataset_of(dataset.model(), store::shared_store_of(dataset), std::move(options),
                             store::live_of(dataset));
  }

  const Dataset& before_;
  const Dataset& after_;
  const Changed& changed_;
  const CheckedModel& model_;
  const RefactorSettings& settings_;
  ProbeProof proof_;
  std::map<TableIndex, std::string> shown_;
};

}  // namespace

ProbeProof probe(const Dataset& before, const Dataset& after, const Changed& changed,
                 const RefactorSettings& settings) {
  return Prober(before, after, changed, settings).run();
}

}  // namespace juniper::refactoring
