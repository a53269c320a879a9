// Stores beside their models: made, kept fresh, opened, verified.
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <set>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/output_file.h"
#include "engine/asked/calendar_gaps.h"
#include "engine/asked/watch.h"
#include "engine/query/ask.h"
#include "engine/query/unread_texts.h"
#include "juniper/dataset.h"
#include "live/asker.h"
#include "loading/fit.h"
#include "loading/inputs.h"
#include "loading/load_beside.h"
#include "loading/loader.h"
#include "loading/seen_rows.h"
#include "loading/signature.h"
#include "loading/verify_meaning.h"
#include "loading/warnings.h"
#include "model/access.h"
#include "store/of_dataset.h"

namespace juniper {

namespace {

using namespace language;
using loading::data_warnings;
using loading::Loader;
using loading::texts_beside;
using loading::today_of;

// With --strict these are errors.
Result<void> accept(const Model& model, const store::Store& store) {
  Diagnostics warnings = data_warnings(model::checked(model), store);
  if (!model.options().strict || warnings.empty()) return {};
  for (Diagnostic& warning : warnings) warning.severity = Severity::error;
  return tl::unexpected(std::move(warnings));
}

// A store that is fresh, and how it came to be.
struct Loaded {
  store::Store store;
  bool loaded = false;
  std::vector<std::uint64_t> files_read;  // of each table, now
  std::set<ColumnId> carried;             // calculated columns as an earlier store held them
};

LoadReport describe(const Loaded& loaded, const CheckedModel& model, const std::string& path) {
  const store::Store& store = loaded.store;
  LoadReport report;
  report.store = path;
  report.loaded = loaded.loaded;
  for (std::size_t t = 0; t < store.tables.size(); ++t) {
    const store::StoredTable& table = store.tables[t];
    if (model.tables[t].is_live()) {
      const base::SourcePlace& place = model.tables[t].source;
      report.live.push_back({table.name, fmt::format("{} {}", base::name_of(place.kind), place.pattern)});
      continue;
    }
    TableLoad row;
    row.table = table.name;
    row.rows = table.rows;
    row.unreached = table.unreached_rows;
    row.source_bytes = table.source_bytes;
    row.files = static_cast<std::uint64_t>(std::count_if(
        store.sources.begin(), store.sources.end(), [&](const auto& source) { return source.table == table.name; }));
    row.files_read = loaded.loaded ? loaded.files_read[t] : 0;
    row.rejected = store::rejected_rows(store, table);
    row.read_nanoseconds = table.read_nanoseconds;
    row.total_nanoseconds = table.read_nanoseconds + table.encode_nanoseconds;
    for (std::uint32_t c = 0; c < table.columns.size(); ++c) {
      const store::StoredColumn& column = table.columns[c];
      const std::uint64_t bytes = column.data.bytes();
      row.bytes += bytes;
      const bool carried = loaded.carried.contains({static_cast<TableIndex>(t), c});
      if (column.calculated && !carried)
        row.total_nanoseconds += column.evaluate_nanoseconds + column.encode_nanoseconds;
      report.columns.push_back({table.name, column.name, table.rows, bytes, column.evaluate_nanoseconds,
                                column.encode_nanoseconds, column.calculated, carried});
    }
    if (table.order_asked || !table.order.empty()) {
      report.orders.push_back({table.name, table.order, table.order_saved_bytes,
                               table.file_order == store::no_column ? "" : table.columns[table.file_order].name});
    }
    report.source_bytes += table.source_bytes;
    report.tables.push_back(std::move(row));
  }
  for (std::size_t i = 0; i < store.links.size(); ++i) {
    const store::StoredLink& link = store.links[i];
    if (model.tables[model.links[i].from.table].is_live()) continue;
    report.links.push_back(
        {link.name, store.tables[link.table].rows, link.rows.bytes().size(), link.resolve_nanoseconds});
  }
  report.file_bytes = store.file_bytes;
  report.total_nanoseconds = store.load_nanoseconds;
  return report;
}

Options settled(Options options) {
  options.today = today_of(options);
  return options;
}

bool is_store(const std::string& path) {
  return std::filesystem::path(path).extension() == ".jrs";
}

// The tables for which a smaller order of rows is to be looked for.
// `earlier` may be nothing.
std::set<std::string> tables_to_sort(const CheckedModel& model, RowOrder order, const store::Store* earlier) {
  std::set<std::string> tables;
  if (order == RowOrder::smallest) {
    for (const Table& table : model.tables) tables.insert(table.name);
  } else if (order == RowOrder::as_before && earlier != nullptr) {
    for (const store::StoredTable& table : earlier->tables) {
      if (table.order_asked) tables.insert(table.name);
    }
  }
  // What the text says goes first.
  for (const Table& table : model.tables) {
    if (!table.sorted_by.empty()) tables.erase(table.name);
  }
  return tables;
}

// The store that stands at `path`; one that says to be of this model must also hold what it says.
Result<store::Store> earlier_store(const Model& model, const std::string& path, const Options& options) {
  auto store = store::open_store(path);
  if (!store || store->signature != loading::signature(model::checked(model), *options.today)) return store;
  return loading::fitting(std::move(*store), model::checked(model), path);
}

// Whether servers are asked again for what a store has of them.
enum class Servers : std::uint8_t { as_loaded, asked };

bool has_servers(const CheckedModel& model) {
  return std::any_of(model.tables.begin(), model.tables.end(), [](const Table& table) {
    return !table.rows && !table.is_live() && base::is_server(table.source.kind);
  });
}

// Makes sure that a fresh store stands at `path`, from the one that is there now, if one is, and opens it.
Result<Loaded> refresh(const Model& model, const std::string& path, Result<store::Store> earlier,
                       const Options& options, const LoadSettings& settings, Servers servers) {
  const std::string wanted = loading::signature(model::checked(model), *options.today);
  const bool use_earlier = earlier && settings.reload == Reload::when_stale;
  const std::set<std::string> to_sort =
      tables_to_sort(model::checked(model), settings.order, earlier ? &*earlier : nullptr);
  const auto stands_so = [&](const store::StoredTable& table) {
    return table.signature.empty() || table.order_asked == to_sort.contains(table.name);
  };
  const bool asks = servers == Servers::asked && has_servers(model::checked(model));
  if (use_earlier && !asks && std::all_of(earlier->tables.begin(), earlier->tables.end(), stands_so) &&
      loading::is_fresh(*earlier, model::checked(model), wanted)) {
    if (auto accepted = accept(model, *earlier); !accepted) return tl::unexpected(accepted.error());
    return Loaded{std::move(*earlier), false, {}, {}};
  }
  // Neither a model text nor a source that --store names by mistake is replaced.
  if (auto may = base::may_replace(path, store::begins_as_store, options.overwrite); !may)
    return tl::unexpected(may.error());
  for (const std::string& output : {path, settings.rejects}) {
    if (auto may = loading::may_be_output(model, output); !may) return tl::unexpected(may.error());
  }
  std::optional<source::Rejects> rejects;
  if (!settings.rejects.empty()) {
    auto opened = source::Rejects::open(settings.rejects, options.overwrite);
    if (!opened) return tl::unexpected(opened.error());
    rejects = std::move(*opened);
  }
  store::StoreWriter writer(path);
  Loader loader(model, options, to_sort, use_earlier ? &*earlier : nullptr, rejects ? &*rejects : nullptr, writer);
  if (asks) loader.ask_servers();
  auto loaded = loader.run(wanted);
  if (!loaded) return tl::unexpected(loaded.error());
  if (auto accepted = accept(model, *loaded); !accepted) return tl::unexpected(accepted.error());
  if (rejects) {
    if (auto closed = rejects->close(); !closed) return tl::unexpected(closed.error());
  }
  if (auto written = writer.finish(*loaded); !written) return tl::unexpected(written.error());
  return Loaded{std::move(*loaded), true, loader.files_read(), loader.carried()};
}

Dataset opened(Model model, store::Store store, const Options& options) {
  auto asker = live::asker_of(model::checked(model));
  return store::dataset_of(std::move(model), std::make_shared<const store::Store>(std::move(store)), options,
                           std::move(asker));
}

// What the reader sees of everybody's data, in a store of its own beside theirs, which is made when it is not fresh.
Result<Dataset> seen_by_reader(const Dataset& all, const std::string& path, const Options& options) {
  auto model = Model::read(path, options.reading);
  if (!model) return tl::unexpected(model.error());
  const CheckedModel& checked = model::checked(*model);
  const Reader& reader = *checked.acting_reader();
  const std::string target =
      std::filesystem::path(store_path(path, options)).replace_extension(reader.name + ".jrs").string();
  const std::string wanted = loading::signature(checked, *options.today);
  auto store = earlier_store(*model, target, options);
  if (!store || !loading::is_fresh(*store, checked, wanted)) {
    if (auto may = base::may_replace(target, store::begins_as_store, options.overwrite); !may)
      return tl::unexpected(may.error());
    if (auto may = loading::may_be_output(*model, target); !may) return tl::unexpected(may.error());
    const store::Store& everything = store::store_of(all);
    auto seen = loading::seen_rows(engine::source_of(all), reader, options.threads);
    if (!seen) return tl::unexpected(seen.error());
    store::StoreWriter writer(target);
    Loader loader(*model, options, tables_to_sort(checked, RowOrder::as_before, &everything), &everything, nullptr,
                  writer);
    loader.see_only(std::move(*seen));
    auto loaded = loader.run(wanted);
    if (!loaded) return tl::unexpected(loaded.error());
    if (auto accepted = accept(*model, *loaded); !accepted) return tl::unexpected(accepted.error());
    if (auto written = writer.finish(*loaded); !written) return tl::unexpected(written.error());
    store = std::move(*loaded);
  }
  return opened(std::move(*model), std::move(*store), options);
}

}  // namespace

namespace loading {

Result<store::Store> load_beside(const Model& model, const std::filesystem::path& path, const store::Store& earlier,
                                 const Options& options) {
  // Whatever is read anew is read of everybody.
  if (const Reader* const reader = model::checked(model).acting_reader()) {
    return tl::unexpected(base::error(
        "JR-223",
        fmt::format(
            "what the reader {} sees is known of the model as it is, with the values that it was opened with, and "
            "not of another text or other values",
            reader->name),
        "record the reader's baseline again, or ask without a reader"));
  }
  store::StoreWriter writer(path, store::StoreWriter::Place::beside);
  Loader loader(model, options, tables_to_sort(model::checked(model), RowOrder::as_before, &earlier), &earlier, nullptr,
                writer);
  auto loaded = loader.run(signature(model::checked(model), today_of(options)));
  if (!loaded) return tl::unexpected(loaded.error());
  if (auto accepted = accept(model, *loaded); !accepted) return tl::unexpected(accepted.error());
  if (auto written = writer.finish(*loaded); !written) return tl::unexpected(written.error());
  return loaded;
}

}  // namespace loading

std::string store_path(const std::string& model_path, const Options& options) {
  if (!options.store.empty()) return options.store;
  return std::filesystem::path(model_path).replace_extension(".jrs").string();
}

Result<LoadReport> load(const std::string& path, const Options& given, const LoadSettings& settings) {
  return base::guarded([&]() -> Result<LoadReport> {
    if (is_store(path)) {
      return tl::unexpected(base::error("JR-001",
                                        fmt::format("{} is a store, and a store is loaded from its model text", path),
                                        "name the .ridge file"));
    }
    if (!given.reading.reader.empty())
      return tl::unexpected(
          base::error("JR-223", "a load is everybody's", "what a reader sees is made when it is asked"));
    const Options options = settled(given);
    auto model = Model::read(path, options.reading);
    if (!model) return tl::unexpected(model.error());
    const std::string target = store_path(path, options);
    auto refreshed = refresh(*model, target, earlier_store(*model, target, options), options, settings, Servers::asked);
    if (!refreshed) return tl::unexpected(refreshed.error());
    if (refreshed->store.model_texts != texts_beside(*model)) {
      // Only measures, queries or layout have changed: the store gets the text of today with the data that it has.
      refreshed->store.model_texts = texts_beside(*model);
      if (auto written = store::write_store(refreshed->store, target); !written) return tl::unexpected(written.error());
    }
    LoadReport made = describe(*refreshed, model::checked(*model), target);
    made.warnings = data_warnings(model::checked(*model), refreshed->store);
    for (Diagnostic& gap : engine::calendar_gaps(model::checked(*model), refreshed->store)) {
      if (options.reading.strict) {
        gap.severity = Severity::error;
        return tl::unexpected(Diagnostics{std::move(gap)});
      }
      made.warnings.push_back(std::move(gap));
    }
    made.warnings.insert(made.warnings.begin(), model->warnings().begin(), model->warnings().end());
    const Diagnostics disabled = model->disabled_problems();
    made.warnings.insert(made.warnings.end(), disabled.begin(), disabled.end());
    const Dataset dataset = opened(std::move(*model), std::move(refreshed->store), options);
    const engine::Watch watch(options);
    const engine::QuestionSource source(dataset, model::checked(dataset.model()), &watch);
    for (Diagnostic& unread : engine::unread_texts(source.get(), options.threads))
      made.warnings.push_back(std::move(unread));
    return made;
  });
}

Result<Verification> verify(const std::string& path, const Options& options) {
  return base::guarded([&]() -> Result<Verification> {
    const std::string file = is_store(path) ? path : store_path(path, options);
    auto store = store::open_store(file);
    if (!store) return tl::unexpected(store.error());
    store::verify(*store, options.threads);
    // Of the text that it was made from, which may be another one than that beside it.
    const auto model = Model::parse(store->model_texts, options.reading);
    if (!model) return tl::unexpected(model.error());
    store = loading::fitting(std::move(*store), model::checked(*model), file);
    if (!store) return tl::unexpected(store.error());
    loading::verify_meaning(model::checked(*model), *store, options.threads);
    Verification made{file, 0, store->links.size(), store->file_bytes};
    for (const store::StoredTable& table : store->tables) made.columns += table.columns.size();
    return made;
  });
}

Result<Model> read_model(const std::string& path, const Options& options) {
  return base::guarded([&]() -> Result<Model> {
    if (!is_store(path)) return Model::read(path, options.reading);
    const auto dataset = Dataset::open(path, options);
    if (!dataset) return tl::unexpected(dataset.error());
    return dataset->model();
  });
}

Diagnostics Dataset::warnings() const {
  Diagnostics warnings = model_.warnings();
  const Diagnostics found = data_warnings(model::checked(model_), *store_);
  warnings.insert(warnings.end(), found.begin(), found.end());
  return warnings;
}

Result<Dataset> Dataset::open(const std::string& path, const Options& given) {
  return base::guarded([&]() -> Result<Dataset> {
    if (!given.reading.reader.empty()) {
      if (is_store(path)) {
        return tl::unexpected(base::error(
            "JR-223", fmt::format("{} is a store, and what a reader sees is made beside a model text", path),
            "name the .ridge file"));
      }
      Options everybody = settled(given);
      everybody.reading.reader.clear();
      const auto all = Dataset::open(path, everybody);
      return all ? seen_by_reader(*all, path, settled(given)) : all;
    }
    if (is_store(path)) {
      auto store = store::open_store(path);
      if (!store) return tl::unexpected(store.error());
      // A store is of the day that it was made on, unless another one is asked for.
      Options options = given;
      if (!options.today) options.today = store->today;
      options = settled(options);
      std::vector<ModelText> texts = store->model_texts;
      for (ModelText& text : texts)
        text.name = (std::filesystem::path(path).parent_path() / text.name).lexically_normal().string();
      auto model = Model::parse(texts, options.reading);
      if (!model) return tl::unexpected(model.error());
      store = loading::fitting(std::move(*store), model::checked(*model), path);
      if (!store) return tl::unexpected(store.error());
      const std::string why = loading::why_made_otherwise(*store, model::checked(*model), *options.today);
      if (!why.empty()) {
        return tl::unexpected(base::error("JR-606", fmt::format("{} can't answer this: {}", path, why),
                                          "ask with what it was made with, or load it again from the model text"));
      }
      if (auto accepted = accept(*model, *store); !accepted) return tl::unexpected(accepted.error());
      return opened(std::move(*model), std::move(*store), options);
    }
    const Options options = settled(given);
    auto model = Model::read(path, options.reading);
    if (!model) return tl::unexpected(model.error());
    const std::string target = store_path(path, options);
    // A store that is there and damaged is told, not silently replaced: something is wrong with the disk or the file.
    auto earlier = earlier_store(*model, target, options);
    std::error_code ignored;
    if (!earlier && earlier.error()[0].code != "JR-604" && std::filesystem::exists(target, ignored))
      return tl::unexpected(earlier.error());
    auto refreshed = refresh(*model, target, std::move(earlier), options, {}, Servers::as_loaded);
    if (!refreshed) return tl::unexpected(refreshed.error());
    return opened(std::move(*model), std::move(refreshed->store), options);
  });
}

}  // namespace juniper
