#include "juniper/refactor.h"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <filesystem>
#include <fstream>
#include <iterator>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "engine/ask.h"
#include "engine/query.h"
#include "engine/rows.h"
#include "loading/signature.h"
#include "model/uses.h"
#include "refactor/inline_text.h"
#include "refactor/text_edits.h"
#include "refactor/text_file.h"

namespace juniper {

namespace {

using namespace language;

Result<ColumnId> find_column(const CheckedModel& model, const std::string& written) {
  const std::size_t point = written.find('.');
  const auto fail = [&](std::string message, std::string fix) {
    return tl::unexpected(base::error("JR-801", std::move(message), std::move(fix)));
  };
  if (point == std::string::npos)
    return fail(fmt::format("'{}' does not name a column", written), "write TABLE.COLUMN");
  const std::string table_name = written.substr(0, point);
  const std::string column_name = written.substr(point + 1);
  const auto table = model.find_table(table_name);
  if (!table) {
    std::vector<std::string> names;
    for (const Table& t : model.tables) names.push_back(t.name);
    return fail(fmt::format("there is no table '{}'", table_name), base::did_you_mean(table_name, names));
  }
  const auto column = model.tables[*table].find(column_name);
  if (!column) {
    std::vector<std::string> names;
    for (const Column& c : model.tables[*table].columns) names.push_back(c.name);
    return fail(fmt::format("there is no column '{}' in table '{}'", column_name, table_name),
                base::did_you_mean(column_name, names));
  }
  return ColumnId{*table, *column};
}

// The stored data as the changed model wants it: without the removed columns, in the order of its tables and columns.
store::Store store_for(const store::Store& before, const CheckedModel& after, const std::string& text,
                       std::int64_t today) {
  store::Store made = before;
  made.model_texts[0].text = text;
  made.signature = loading::signature(after, today);
  for (std::size_t t = 0; t < after.tables.size(); ++t) {
    std::vector<store::StoredColumn> columns;
    for (const Column& column : after.tables[t].columns) {
      const auto at = std::find_if(before.tables[t].columns.begin(), before.tables[t].columns.end(),
                                   [&](const store::StoredColumn& c) { return c.name == column.name; });
      columns.push_back(*at);
    }
    made.tables[t].columns = std::move(columns);
  }
  return made;
}

std::string shown(const Value& value, Type type) {
  return value.is_null() ? "null" : to_text(value, type);
}

// Compares what is stored in a column with the values of an expression, row by row.
Result<RowProof> prove_rows(const engine::Source& source, ColumnId id, const NodePtr& expression, unsigned threads) {
  constexpr std::size_t most_samples = 5;
  RowProof proof;
  proof.column = source.model.column_name(id);
  const auto computed = engine::evaluate_rows(source, id.table, expression, threads);
  if (!computed) return tl::unexpected(computed.error());
  const store::Column& stored = source.column(id);
  for (std::uint64_t row = 0; row < stored.rows; ++row) {
    ++proof.rows;
    const Value was = stored.at(row);
    const bool overflow = computed->values->state[row] == engine::State::overflow;
    const Value is = computed->values->value_at(row);
    if (!overflow && was == is) continue;
    ++proof.differing;
    if (proof.samples.size() < most_samples) {
      proof.samples.push_back(fmt::format("row {}: stored {}, computed {}", row + 1, shown(was, stored.type),
                                          overflow ? "an overflow" : shown(is, stored.type)));
    }
  }
  return proof;
}

std::int64_t median(std::vector<std::int64_t> values) {
  std::nth_element(values.begin(), values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2), values.end());
  return values[values.size() / 2];
}

// Runs one saved query on both models in turn.
Result<QueryProof> prove_query(const Dataset& before, const Dataset& after, const std::string& name) {
  constexpr int runs = 3;
  QueryProof proof;
  proof.query = name;
  std::vector<std::int64_t> before_times;
  std::vector<std::int64_t> after_times;
  for (int run = 0; run < runs; ++run) {
    const auto was = ask(before, {name, {}});
    if (!was) return tl::unexpected(was.error());
    const auto is = ask(after, {name, {}});
    if (!is) return tl::unexpected(is.error());
    if (run == 0) proof.comparison = compare(*was, *is);
    before_times.push_back(was->nanoseconds);
    after_times.push_back(is->nanoseconds);
  }
  proof.before_nanoseconds = median(before_times);
  proof.after_nanoseconds = median(after_times);
  return proof;
}

std::filesystem::path file_of_store(const Dataset& dataset) {
  return store_path(dataset.model().path(), dataset.options());
}

// The size of the store without the removed columns, by writing it beside the present one.
Result<std::uint64_t> measure_file(store::Store store, const std::filesystem::path& beside) {
  const std::filesystem::path path = beside.string() + fmt::format(".{}.measured", ::getpid());
  if (auto written = store::write_store(store, path); !written) return tl::unexpected(written.error());
  std::error_code ignored;
  std::filesystem::remove(path, ignored);
  return store.file_bytes;
}

// The changed model over the data of the dataset.
Result<Dataset> changed(const Dataset& dataset, const std::string& text) {
  auto model = Model::parse(dataset.model().path(), text);
  if (!model) return tl::unexpected(model.error());
  auto store = std::make_shared<const store::Store>(
      store_for(dataset.store(), model->checked(), text, *dataset.options().today));
  return Dataset(std::move(*model), std::move(store), dataset.options());
}

}  // namespace

bool Refactoring::proved() const {
  return std::all_of(rows.begin(), rows.end(), [](const RowProof& p) { return p.differing == 0; }) &&
         std::all_of(queries.begin(), queries.end(), [](const QueryProof& p) { return p.comparison.same(); });
}

Result<Refactoring> inline_column(const Dataset& dataset, const std::string& column) {
  return base::guarded([&]() -> Result<Refactoring> {
    const CheckedModel& model = dataset.model().checked();
    const auto id = find_column(model, column);
    if (!id) return tl::unexpected(id.error());
    const auto plan = refactor::plan_inline(model, *id);
    if (!plan) return tl::unexpected(plan.error());
    const auto after = changed(dataset, plan->text);
    if (!after) return tl::unexpected(after.error());

    Refactoring made;
    made.title = "inline " + column;
    made.model_path = dataset.model().path();
    made.text_before = dataset.model().text();
    made.text_after = plan->text;
    made.diff = refactor::unified_diff(made.text_before, made.text_after, made.model_path);

    const std::set<ColumnId> removed(plan->removed.begin(), plan->removed.end());
    const engine::Source source = engine::source_of(dataset);
    std::vector<ColumnId> to_prove = plan->removed;
    to_prove.insert(to_prove.end(), plan->rewritten.begin(), plan->rewritten.end());
    for (const ColumnId proved : to_prove) {
      auto proof = prove_rows(source, proved, refactor::expand(model, model.column(proved).expression, removed),
                              dataset.options().threads);
      if (!proof) return tl::unexpected(proof.error());
      proof->expression = refactor::expanded_text(model, proved, removed);
      proof->removed = removed.contains(proved);
      made.rows.push_back(std::move(*proof));
    }
    for (const std::string& query : dataset.model().queries()) {
      auto proof = prove_query(dataset, *after, query);
      if (!proof) return tl::unexpected(proof.error());
      made.queries.push_back(std::move(*proof));
    }

    Ledger& ledger = made.ledger;
    ledger.file_bytes_before = dataset.store().file_bytes;
    const auto bytes = measure_file(after->store(), file_of_store(dataset));
    if (!bytes) return tl::unexpected(bytes.error());
    ledger.file_bytes_after = *bytes;
    ledger.load_nanoseconds_before = ledger.load_nanoseconds_after = dataset.store().load_nanoseconds;
    for (const ColumnId gone : plan->removed) {
      const store::StoredColumn& stored = dataset.store().tables[gone.table].columns[gone.column];
      const std::int64_t time = stored.evaluate_nanoseconds + stored.encode_nanoseconds;
      ledger.removed.push_back({model.column_name(gone), stored.data.bytes(), time});
      ledger.load_nanoseconds_after -= time;
    }
    return made;
  });
}

Result<void> write(const Dataset& dataset, const Refactoring& refactoring) {
  return base::guarded([&]() -> Result<void> {
    const auto fail = [](std::string code, std::string message, std::string fix) {
      return tl::unexpected(base::error(std::move(code), std::move(message), std::move(fix)));
    };
    if (!refactoring.proved())
      return fail("JR-804", "the change was not written: its proof failed",
                  "look at the differing rows and cells above");
    if (refactoring.model_path != dataset.model().path()) {
      return fail("JR-806", "this change was made for another model text", "run the refactoring on this one");
    }
    const auto after = changed(dataset, refactoring.text_after);
    if (!after) return tl::unexpected(after.error());
    // The text first, beside its place and renamed; a store that does not fit it yet is loaded again by whoever needs
    // it.
    if (auto written = refactor::replace_text(refactoring.model_path, refactoring.text_before, refactoring.text_after);
        !written)
      return written;
    store::Store store = after->store();
    store.load_nanoseconds = refactoring.ledger.load_nanoseconds_after;
    return store::write_store(store, file_of_store(dataset));
  });
}

}  // namespace juniper
