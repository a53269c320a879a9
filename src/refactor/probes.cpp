// Queries made up to find out whether a change of a model changes a number.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "engine/ask.h"
#include "language/lexer.h"
#include "model/access.h"
#include "refactor/proofs.h"
#include "refactor/reach.h"
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
    for (const std::string& text : probes()) {
      ++proof_.possible;
      if (is_within_budget()) ask_both(text);
    }
    return std::move(proof_);
  }

 private:
  static constexpr std::uint64_t few = 40;      // values of a column that is paired with others
  static constexpr std::uint64_t filters = 12;  // … each of whose values is filtered by
  static constexpr std::size_t most_differing = 5;
  static constexpr std::uint64_t least_probes = 40;  // however many rows they read

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

  void ask_both(const std::string& text) {
    ++proof_.asked;
    const auto was = ask(before_, {text});
    const auto is = ask(after_, {text});
    if (!was && !is && was.error()[0].code == is.error()[0].code) {
      ++proof_.refused;
      return;
    }
    QueryProof found;
    found.query = text;
    if (was && is) {
      proof_.rows_read += was->rows_scanned + is->rows_scanned;
      found.comparison = compare(*was, *is, most_differences, changed_.tolerance);
      proof_.cells += found.comparison.cells;
    } else {
      found.comparison.differences = 1;
      found.comparison.samples.push_back({DifferenceKind::columns, "", "", was ? "an answer" : was.error()[0].message,
                                          is ? "an answer" : is.error()[0].message, ""});
    }
    if (!found.comparison.same() && proof_.differing.size() < most_differing)
      proof_.differing.push_back(std::move(found));
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
