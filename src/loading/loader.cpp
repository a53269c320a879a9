#include "loading/loader.h"

#include <fmt/format.h>

#include <filesystem>

#include "base/diagnostics.h"
#include "base/parallel.h"
#include "juniper/model.h"
#include "loading/read_table.h"
#include "loading/row_order.h"
#include "loading/signature.h"
#include "model/access.h"

namespace juniper::loading {

namespace {

using Clock = std::chrono::steady_clock;

}  // namespace

std::int64_t today_of(const Options& options) {
  if (options.today) return *options.today;
  return std::chrono::floor<std::chrono::days>(std::chrono::system_clock::now()).time_since_epoch().count();
}

std::vector<ModelText> texts_beside(const Model& model) {
  std::vector<ModelText> texts = model.texts();
  const auto folder = std::filesystem::path(model.path()).parent_path();
  for (ModelText& text : texts) {
    const auto beside = std::filesystem::path(text.name).lexically_relative(folder.empty() ? "." : folder);
    text.name = beside.empty() ? std::filesystem::path(text.name).filename().string() : beside.string();
  }
  return texts;
}

Loader::Loader(const Model& model, const Options& options, std::set<std::string> to_sort, const store::Store* earlier,
               source::Rejects* rejects, store::StoreWriter& writer)
    : model_(model::checked(model)),
      options_(options),
      to_sort_(std::move(to_sort)),
      earlier_(earlier),
      rejects_(rejects),
      writer_(writer),
      source_{model_, store_, {today_of(options)}},
      unchanged_(model_.tables.size(), false),
      carried_columns_(model_, today_of(options), earlier) {
  store_.model_texts = texts_beside(model);
  watched_.cancelled = options.cancelled;
  source_.watch = &watch_;
}

Result<store::Store> Loader::run(const std::string& signature) {
  const auto begin = Clock::now();
  store_.signature = signature;
  note_settings(model_, source_.setting.today, store_);
  Diagnostics errors;
  // Every table is read even after an error in another, so that one run reports all.
  for (TableIndex t = 0; t < model_.tables.size(); ++t) {
    if (auto read = read_table(t); !read) errors.insert(errors.end(), read.error().begin(), read.error().end());
  }
  if (!errors.empty()) return tl::unexpected(std::move(errors));
  encode();
  if (auto seen = leave_out_unseen(); !seen) return tl::unexpected(seen.error());
  leave_out_unreached();
  if (auto ordered = order_rows(); !ordered) return tl::unexpected(ordered.error());
  store_.links.resize(model_.links.size());
  column_done_.resize(model_.tables.size());
  link_done_.assign(model_.links.size(), 0);
  table_done_.assign(model_.tables.size(), false);
  for (TableIndex t = 0; t < model_.tables.size(); ++t) {
    for (const Column& column : model_.tables[t].columns)
      column_done_[t].push_back(!column.is_calculated() && !column.from_row);
  }
  resolve_source_links();
  for (TableIndex t = 0; t < model_.tables.size(); ++t) {
    if (auto done = need_table(t); !done) return tl::unexpected(done.error());
    for (std::uint32_t c = 0; c < model_.tables[t].columns.size(); ++c) {
      if (auto done = need_column({t, c}); !done) return tl::unexpected(done.error());
    }
  }
  for (LinkIndex i = 0; i < model_.links.size(); ++i) {
    if (auto done = need_link(i); !done) return tl::unexpected(done.error());
  }
  for (TableIndex t = 0; t < model_.tables.size(); ++t) {
    const auto bad = check_keys(t);
    errors.insert(errors.end(), bad.begin(), bad.end());
  }
  if (!errors.empty()) return tl::unexpected(std::move(errors));
  store_.load_nanoseconds = nanoseconds_since(begin);
  return std::move(store_);
}

void Loader::report(const Progress& progress) const {
  watch_.check();
  if (options_.progress) options_.progress(progress);
}

Result<void> Loader::read_table(TableIndex t) {
  const Table& table = model_.tables[t];
  if (table.rows || table.is_live()) return declare_table(t);
  const source::TableRequest request = table_request(model_, t);
  const auto begin = Clock::now();
  std::uint64_t total = 0;
  for (const auto& path : source::find_files(request).value_or(std::vector<std::filesystem::path>{})) {
    if (const auto file = source::look_at(request, path)) total += file->bytes;
  }
  source::ReadSettings settings;
  settings.threads = options_.threads;
  settings.rejects = rejects_;
  settings.connections = &connections_;
  settings.asks_servers = asks_servers_;
  settings.progress = [&](std::uint64_t bytes, std::uint64_t rows) {
    report({"reading " + table.name, rows, bytes, total});
  };
  settings.progress(0, 0);
  store::StoredTable& stored = store_.tables.emplace_back();
  stored.name = table.name;
  stored.signature = table_signature(request);
  stored.order_asked = to_sort_.contains(table.name);
  std::optional<std::string> order;
  if (!stored.order_asked) order = order_name(table);
  if (earlier_ != nullptr) {
    for (const store::StoredTable& then : earlier_->tables) {
      if (then.name == table.name && !may_stay_sorted(table, then)) order = "";  // as in the files
    }
  }
  auto read = loading::read_table(request, stored.signature, earlier_, order, settings);
  if (!read) return tl::unexpected(with_place(read.error(), table));
  // A copy in the order of the files is not what the earlier store's other columns stand beside.
  unchanged_[t] = read->unchanged != nullptr &&
                  std::any_of(earlier_->tables.begin(), earlier_->tables.end(),
                              [&](const store::StoredTable& then) { return &then == read->unchanged.get(); });
  stored.rows = read->rows;
  stored.source_bytes = read->bytes;
  store_.sources.insert(store_.sources.end(), read->sources.begin(), read->sources.end());
  files_read_.push_back(read->files_read);
  std::size_t next = 0;
  for (std::uint32_t c = 0; c < table.columns.size(); ++c) {
    store::StoredColumn& column = stored.columns.emplace_back();
    column.name = table.columns[c].name;
    column.calculated = table.columns[c].is_calculated();
    column.data.type = table.columns[c].type;
    if (column.calculated) continue;
    if (read->unchanged == nullptr) {
      read_columns_.push_back({t, c, std::move(read->columns[next++])});
    } else {
      while (read->unchanged->columns[next].calculated) ++next;
      column = read->unchanged->columns[next++];
    }
  }
  stored.read_nanoseconds = read->unchanged != nullptr ? read->unchanged->read_nanoseconds : nanoseconds_since(begin);
  if (read->unchanged != nullptr) {
    stored.encode_nanoseconds = read->unchanged->encode_nanoseconds;
    stored.order = read->unchanged->order;
    stored.order_saved_bytes = read->unchanged->order_saved_bytes;
    stored.file_order = read->unchanged->file_order;
  }
  return {};
}

Result<void> Loader::declare_table(TableIndex t) {
  store::StoredTable& stored = store_.tables.emplace_back();
  stored.name = model_.tables[t].name;
  files_read_.push_back(0);
  for (const Column& column : model_.tables[t].columns) {
    store::StoredColumn& declared = stored.columns.emplace_back();
    declared.name = column.name;
    declared.calculated = model_.tables[t].rows != nullptr || column.is_calculated();
    declared.data = store::encode_column(source::column_of(column.type, 0, [](auto, auto, auto&) {}));
  }
  return {};
}

Diagnostics Loader::with_place(Diagnostics errors, const Table& table) const {
  for (Diagnostic& error : errors) {
    if (error.place.file.empty())
      error =
          model_.sources.diagnostic(Severity::error, error.code, table.source_span, error.message, error.suggestion);
  }
  return errors;
}

void Loader::encode() {
  const auto all_begin = Clock::now();
  report({"encoding", 0, 0, 0});
  std::stable_sort(read_columns_.begin(), read_columns_.end(),
                   [](const ReadColumn& a, const ReadColumn& b) { return a.input.bytes() > b.input.bytes(); });
  base::parallel_for(read_columns_.size(), options_.threads, [&](std::size_t i) {
    const auto begin = Clock::now();
    ReadColumn& read = read_columns_[i];
    store::StoredColumn& column = encoded(read);
    column.data = store::encode_column(std::exchange(read.input, {}));
    column.encode_nanoseconds = nanoseconds_since(begin);
    if (!sorts(read.table) && model_.tables[read.table].reached_from.empty()) writer_.write_ahead(column.data);
  });
  // Each table's part of the time is that of its columns' work.
  const std::int64_t elapsed = nanoseconds_since(all_begin);
  std::int64_t work = 0;
  for (const ReadColumn& read : read_columns_) work += encoded(read).encode_nanoseconds;
  for (const ReadColumn& read : read_columns_) {
    store_.tables[read.table].encode_nanoseconds +=
        static_cast<std::int64_t>(static_cast<double>(elapsed) * static_cast<double>(encoded(read).encode_nanoseconds) /
                                  static_cast<double>(std::max<std::int64_t>(work, 1)));
  }
  read_columns_.clear();
}

Result<void> Loader::leave_out_unseen() {
  for (TableIndex t = 0; t < seen_rows_.size(); ++t) {
    if (model_.tables[t].rows) continue;
    if (!unchanged_[t]) {
      return tl::unexpected(base::error(
          "JR-223", fmt::format("{} has changed while its rows were chosen for a reader", model_.tables[t].name),
          "ask again"));
    }
    if (!seen_rows_[t]) continue;
    report({"leaving out rows of " + model_.tables[t].name, store_.tables[t].rows, 0, 0});
    store_.tables[t].unreached_rows += store_.tables[t].rows - seen_rows_[t]->size();
    keep_rows(t, *seen_rows_[t]);
  }
  return {};
}

void Loader::keep_rows(TableIndex t, const std::vector<std::uint64_t>& rows) {
  store::StoredTable& stored = store_.tables[t];
  base::parallel_for(stored.columns.size(), options_.threads, [&](std::size_t c) {
    if (stored.columns[c].calculated) return;
    store::Column& data = stored.columns[c].data;
    data = store::encode_column(store::chosen_rows(data, rows));
    if (!sorts(t)) writer_.write_ahead(data);
  });
  unchanged_[t] = unchanged_[t] && rows.size() == stored.rows;
  stored.rows = rows.size();
}

void Loader::leave_out_unreached() {
  kept_rows_.resize(model_.tables.size());
  std::vector<bool> done(model_.tables.size(), false);
  for (TableIndex t = 0; t < model_.tables.size(); ++t) leave_out_unreached(t, done);
}

void Loader::leave_out_unreached(TableIndex t, std::vector<bool>& done) {
  const Table& table = model_.tables[t];
  if (done[t] || table.reached_from.empty()) return;
  done[t] = true;
  for (const TableIndex from : table.reached_from) leave_out_unreached(from, done);
  const auto begin = Clock::now();
  store::StoredTable& stored = store_.tables[t];
  report({"leaving out rows of " + table.name, stored.rows, 0, 0});
  const auto reached = reached_rows(t);
  if (!reached) return;
  std::vector<std::uint64_t>& kept = kept_rows_[t];
  for (std::uint64_t row = 0; row < stored.rows; ++row) {
    if ((*reached)[row] != 0) kept.push_back(row);
  }
  stored.unreached_rows += stored.rows - kept.size();
  keep_rows(t, kept);
  stored.encode_nanoseconds += nanoseconds_since(begin);
}

std::optional<std::vector<std::uint8_t>> Loader::reached_rows(TableIndex t) const {
  const std::vector<TableIndex>& from_tables = model_.tables[t].reached_from;
  std::vector<std::uint8_t> reached(store_.tables[t].rows, 0);
  for (const Link& link : model_.links) {
    if (link.to.table != t || std::find(from_tables.begin(), from_tables.end(), link.from.table) == from_tables.end())
      continue;
    std::vector<const store::Column*> from;
    std::vector<const store::Column*> to;
    for (const std::uint32_t c : link.from.columns) from.push_back(&source_.column({link.from.table, c}));
    for (const std::uint32_t c : link.to.columns) to.push_back(&source_.column({t, c}));
    if (!link.broken.empty() || repeated_key(to)) return std::nullopt;
    const store::StoredLink resolved = resolve_link(from, to);
    store::mark_rows({resolved, *from[0]}, reached);
  }
  return reached;
}

Result<void> Loader::order_rows() {
  Diagnostics errors;
  for (TableIndex t = 0; t < model_.tables.size(); ++t) {
    const Table& table = model_.tables[t];
    store::StoredTable& stored = store_.tables[t];
    if (!sorts(t) || !stored.order.empty() || table.rows) continue;
    const bool may_sort = loading::may_sort(table, stored);
    if (!may_sort && !table.sorted_by.empty()) {
      errors.push_back(model_.sources.diagnostic(
          Severity::error, "JR-516", table.rows_span,
          fmt::format("the rows of {} can't be sorted: nothing would tell which of two equal rows comes first",
                      table.name),
          "declare a key that is different in every row, load a column whose values ascend with the rows, or leave "
          "`sorted by` out"));
    }
    const auto begin = Clock::now();
    if (may_sort) {
      unchanged_[t] = false;
      report({"ordering " + stored.name, stored.rows, 0, 0});
      const std::vector<unsigned> weights = code_weights(model_, t, stored);
      if (table.sorted_by.empty()) {
        sort_rows(stored, smaller_order(stored, weights, options_.threads), weights, SortIf::smaller, options_.threads);
      } else {
        sort_rows(stored, table.sorted_by, weights, SortIf::asked, options_.threads);
      }
    }
    for (store::StoredColumn& column : stored.columns) {
      if (!column.calculated) writer_.write_ahead(column.data);
    }
    stored.encode_nanoseconds += nanoseconds_since(begin);
  }
  if (!errors.empty()) return tl::unexpected(std::move(errors));
  return {};
}

std::uint64_t Loader::file_row(TableIndex t, std::uint64_t row) const {
  const store::StoredTable& table = store_.tables[t];
  if (table.file_order != store::no_column) {
    const auto codes = table.columns[table.file_order].data.codes.decoded();
    row = static_cast<std::uint64_t>(
        std::count_if(codes.begin(), codes.end(), [&](std::uint64_t code) { return code < codes[row]; }));
  }
  return kept_rows_[t].empty() ? row : kept_rows_[t][row];
}

std::vector<Place> Loader::places_of(TableIndex t, const std::vector<std::uint64_t>& file_rows) const {
  const store::StoredTable& table = store_.tables[t];
  if (!table.order.empty() && table.file_order == store::no_column) return {};
  if (!seen_rows_.empty() && seen_rows_[t]) return {};  // rows of the files are not those of everybody's store
  return source::locate_rows(table_request(model_, t), file_rows);
}

}  // namespace juniper::loading
