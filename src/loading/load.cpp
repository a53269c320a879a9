#include <fmt/format.h>

#include <chrono>
#include <filesystem>
#include <map>
#include <numeric>
#include <set>
#include <unordered_map>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "base/failure.h"
#include "base/parallel.h"
#include "engine/rows.h"
#include "juniper/dataset.h"
#include "language/check.h"
#include "loading/load_beside.h"
#include "loading/read_table.h"
#include "loading/resolve_link.h"
#include "loading/row_order.h"
#include "loading/signature.h"
#include "model/access.h"
#include "model/uses.h"
#include "source/column_input.h"
#include "store/of_dataset.h"
#include "store/store.h"

namespace juniper {

namespace {

using namespace language;
using Clock = std::chrono::steady_clock;

std::int64_t nanoseconds_since(Clock::time_point begin) {
  return std::chrono::nanoseconds(Clock::now() - begin).count();
}

std::int64_t today_of(const Options& options) {
  if (options.today) return *options.today;
  return std::chrono::floor<std::chrono::days>(std::chrono::system_clock::now()).time_since_epoch().count();
}

// The first row whose number does not fit 64 bits.
std::optional<std::uint64_t> overflowed_row(const engine::Vector& values) {
  for (std::size_t i = 0; i < values.size(); ++i) {
    const bool wide = values.repr == engine::Repr::wide && values.state[i] == engine::State::value;
    if (values.state[i] == engine::State::overflow || (wide && !base::fits_int64(values.wide[i]))) return i;
  }
  return std::nullopt;
}

// The values of a calculated column, none of which overflowed, on their way into the store.
source::ColumnInput to_input(Type type, const engine::Vector& values) {
  return source::column_of(type, values.size(), [&](std::size_t begin, std::size_t end, source::PieceValues& piece) {
    for (std::size_t i = begin; i < end; ++i) {
      const bool null = values.state[i] == engine::State::null;
      piece.is_null.push_back(null ? 1 : 0);
      switch (values.repr) {
        case engine::Repr::narrow:
          piece.exact.push_back(values.narrow[i]);
          break;
        case engine::Repr::wide:
          piece.exact.push_back(null ? 0 : static_cast<std::int64_t>(values.wide[i]));
          break;
        case engine::Repr::real:
          piece.real.push_back(null ? 0 : values.real[i]);
          break;
        case engine::Repr::text:
          piece.text.push_back(values.text[i]);
      }
    }
  });
}

// The model's texts, named as seen from the folder of the first.
std::vector<ModelText> texts_beside(const Model& model) {
  std::vector<ModelText> texts = model.texts();
  const auto folder = std::filesystem::path(model.path()).parent_path();
  for (ModelText& text : texts) {
    const auto beside = std::filesystem::path(text.name).lexically_relative(folder.empty() ? "." : folder);
    text.name = beside.empty() ? std::filesystem::path(text.name).filename().string() : beside.string();
  }
  return texts;
}

class Loader {
 public:
  // `earlier` may be nothing; what has not changed is taken from there.
  // `to_sort`: the tables for which a smaller order of rows is looked for.
  Loader(const Model& model, const Options& options, std::set<std::string> to_sort, const store::Store* earlier,
         source::Rejects* rejects, store::StoreWriter& writer)
      : model_(model::checked(model)),
        options_(options),
        to_sort_(std::move(to_sort)),
        earlier_(earlier),
        rejects_(rejects),
        writer_(writer),
        source_{model_, store_, {today_of(options)}} {
    store_.model_texts = texts_beside(model);
  }

  // Of each table, how many files were read; after `run`.
  const std::vector<std::uint64_t>& files_read() const { return files_read_; }

  Result<store::Store> run(const std::string& signature) {
    const auto begin = Clock::now();
    store_.signature = signature;
    Diagnostics errors;
    // Every table is read even after an error in another, so that one run reports all.
    for (TableIndex t = 0; t < model_.tables.size(); ++t) {
      if (auto read = read_table(t); !read) errors.insert(errors.end(), read.error().begin(), read.error().end());
    }
    if (!errors.empty()) return tl::unexpected(std::move(errors));
    encode();
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

 private:
  void report(const Progress& progress) const {
    if (options_.progress) options_.progress(progress);
  }

  Result<void> read_table(TableIndex t) {
    const Table& table = model_.tables[t];
    if (table.rows) return declare_table(t);
    const source::TableRequest request = loading::table_request(model_, t);
    const auto begin = Clock::now();
    std::uint64_t total = 0;
    for (const auto& path : source::find_files(request).value_or(std::vector<std::filesystem::path>{})) {
      if (const auto file = source::look_at(table.name, path)) total += file->bytes;
    }
    source::ReadSettings settings;
    settings.threads = options_.threads;
    settings.rejects = rejects_;
    settings.progress = [&](std::uint64_t bytes, std::uint64_t rows) {
      report({"reading " + table.name, rows, bytes, total});
    };
    settings.progress(0, 0);
    store::StoredTable& stored = store_.tables.emplace_back();
    stored.name = table.name;
    stored.signature = loading::table_signature(request);
    stored.order_asked = to_sort_.contains(table.name);
    std::optional<std::string> order;
    if (!stored.order_asked) order = loading::order_name(table);
    auto read = loading::read_table(request, stored.signature, earlier_, order, settings);
    if (!read) return tl::unexpected(with_place(read.error(), table));
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

  // True if a table's rows may be put in another order than that of its files.
  bool sorts(TableIndex t) const { return store_.tables[t].order_asked || !model_.tables[t].sorted_by.empty(); }

  // Room for the columns of a calculated table, which is computed later.
  Result<void> declare_table(TableIndex t) {
    store::StoredTable& stored = store_.tables.emplace_back();
    stored.name = model_.tables[t].name;
    files_read_.push_back(0);
    for (const Column& column : model_.tables[t].columns) {
      store::StoredColumn& made = stored.columns.emplace_back();
      made.name = column.name;
      made.calculated = true;
      made.data.type = column.type;
    }
    return {};
  }

  // A missing file is told at the place in the model text that names it.
  Diagnostics with_place(Diagnostics errors, const Table& table) const {
    for (Diagnostic& error : errors) {
      if (error.place.file.empty())
        error =
            model_.sources.diagnostic(Severity::error, error.code, table.source_span, error.message, error.suggestion);
    }
    return errors;
  }

  // Encodes the columns of all sources together, the largest first, so that no thread is left with one at the end.
  void encode() {
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
      store_.tables[read.table].encode_nanoseconds += static_cast<std::int64_t>(
          static_cast<double>(elapsed) * static_cast<double>(encoded(read).encode_nanoseconds) /
          static_cast<double>(std::max<std::int64_t>(work, 1)));
    }
    read_columns_.clear();
  }

  // Leaves out the rows of files that no link leads to, where the text says so: before anything is calculated.
  void leave_out_unreached() {
    kept_rows_.resize(model_.tables.size());
    std::vector<bool> done(model_.tables.size(), false);
    for (TableIndex t = 0; t < model_.tables.size(); ++t) leave_out_unreached(t, done);
  }

  void leave_out_unreached(TableIndex t, std::vector<bool>& done) {
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
    base::parallel_for(stored.columns.size(), options_.threads, [&](std::size_t c) {
      if (stored.columns[c].calculated) return;
      store::Column& data = stored.columns[c].data;
      data = store::encode_column(store::chosen_rows(data, kept));
      if (!sorts(t)) writer_.write_ahead(data);
    });
    stored.unreached_rows = stored.rows - kept.size();
    stored.rows = kept.size();
    stored.encode_nanoseconds += nanoseconds_since(begin);
  }

  // 1 for each row of a table's files that some link of those that count leads to. Nothing, and so all rows stay, where
  // one of these links is broken: nobody knows where it would lead.
  std::optional<std::vector<std::uint8_t>> reached_rows(TableIndex t) const {
    const std::vector<TableIndex>& from_tables = model_.tables[t].reached_from;
    std::vector<std::uint8_t> reached(store_.tables[t].rows, 0);
    for (const Link& link : model_.links) {
      if (link.to.table != t || std::find(from_tables.begin(), from_tables.end(), link.from.table) == from_tables.end())
        continue;
      std::vector<const store::Column*> from;
      std::vector<const store::Column*> to;
      for (const std::uint32_t c : link.from.columns) from.push_back(&source_.column({link.from.table, c}));
      for (const std::uint32_t c : link.to.columns) to.push_back(&source_.column({t, c}));
      if (!link.broken.empty() || loading::repeated_key(to)) return std::nullopt;
      const store::StoredLink resolved = loading::resolve_link(from, to);
      loading::mark_rows(resolved, reached);
    }
    return reached;
  }

  // Sorts the rows of tables as the text says, or, where that was asked for, in a smaller order: where nothing depends
  // on their order or a column tells it.
  Result<void> order_rows() {
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
            "declare a key that is different in every row, or leave `sorted by` out"));
      }
      const auto begin = Clock::now();
      if (may_sort) {
        report({"ordering " + stored.name, stored.rows, 0, 0});
        const std::vector<unsigned> weights = loading::code_weights(model_, t);
        if (table.sorted_by.empty()) {
          loading::sort_rows(stored, loading::smaller_order(stored, weights, options_.threads), weights,
                             loading::SortIf::smaller, options_.threads);
        } else {
          loading::sort_rows(stored, table.sorted_by, weights, loading::SortIf::asked, options_.threads);
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

  Result<void> need_link(LinkIndex index) {
    if (link_done_[index] != 0) return {};
    const Link& link = model_.links[index];
    std::vector<const store::Column*> from;
    std::vector<const store::Column*> to;
    std::string broken = link.broken;
    for (const LinkEnd* const end : {&link.from, &link.to}) {
      for (const std::uint32_t c : end->columns) {
        const ColumnId id{end->table, c};
        if (auto done = need_column(id); !done) return done;
        const std::string& reason = store_.tables[id.table].columns[c].broken;
        if (broken.empty() && !reason.empty()) broken = fmt::format("{}: {}", model_.column_name(id), reason);
        (end == &link.from ? from : to).push_back(&store_.tables[id.table].columns[c].data);
      }
    }
    report({"linking " + model::link_name(model_, link), store_.tables[link.from.table].rows, 0, 0});
    resolve(index, from, to, broken);
    return {};
  }

  // Resolves a link, unless it is broken or turns out to be.
  void resolve(LinkIndex index, std::span<const store::Column* const> from, std::span<const store::Column* const> to,
               std::string broken) {
    const auto begin = Clock::now();
    const Link& link = model_.links[index];
    if (broken.empty()) {
      if (const auto repeated = loading::repeated_key(to)) broken = why_broken(link, to, *repeated);
    }
    store::StoredLink& stored = store_.links[index];
    if (broken.empty()) stored = loading::resolve_link(from, to);
    stored.name = model::link_name(model_, link);
    stored.no_row = to[0]->rows;
    stored.broken = broken;
    stored.resolve_nanoseconds = nanoseconds_since(begin);
    writer_.write_ahead(stored.rows);
    link_done_[index] = 1;
  }

  // Links by one column of sources on each side need nothing to be computed first: all together.
  void resolve_source_links() {
    std::vector<LinkIndex> ready;
    for (LinkIndex i = 0; i < model_.links.size(); ++i) {
      const Link& link = model_.links[i];
      if (link.from.columns.size() == 1 && column_done_[link.from.table][link.from.columns[0]] &&
          column_done_[link.to.table][link.to.columns[0]])
        ready.push_back(i);
    }
    report({"linking", 0, 0, 0});
    // The longest first, so that no thread is left with one at the end: that of the most different keys.
    const auto codes = [&](LinkIndex i) {
      const LinkEnd& from = model_.links[i].from;
      return store_.tables[from.table].columns[from.columns[0]].data.null_code;
    };
    std::stable_sort(ready.begin(), ready.end(), [&](LinkIndex a, LinkIndex b) { return codes(a) > codes(b); });
    base::parallel_for(ready.size(), options_.threads, [&](std::size_t i) {
      const Link& link = model_.links[ready[i]];
      const store::Column* const from = &source_.column({link.from.table, link.from.columns[0]});
      const store::Column* const to = &source_.column({link.to.table, link.to.columns[0]});
      resolve(ready[i], {&from, 1}, {&to, 1}, link.broken);
    });
  }

  std::string why_broken(const Link& link, std::span<const store::Column* const> to,
                         const loading::RepeatedKey& repeated) const {
    const Table& table = model_.tables[link.to.table];
    std::string keys;
    for (std::size_t c = 0; c < to.size(); ++c) {
      keys += fmt::format("{}{}.{} is {}", keys.empty() ? "" : ", ", table.name, table.columns[link.to.columns[c]].name,
                          to_text(to[c]->at(repeated.row), to[c]->type));
    }
    const std::uint64_t row = file_row(link.to.table, repeated.row);
    const auto places = places_of(link.to.table, {row});
    return fmt::format("{} in row {}{} and in row {} already ({} a key)", keys, row + 1,
                       places.empty() ? "" : fmt::format(" ({}:{})", places[0].file, places[0].line),
                       file_row(link.to.table, repeated.first) + 1,
                       repeated.rows == 1 ? "1 row repeats" : fmt::format("{} rows repeat", repeated.rows));
  }

  // Why what has these needs can't be computed: the first of them that is broken; "" if all are whole.
  Result<std::string> need(const Needs& needs, std::optional<TableIndex> own) {
    std::string broken;
    const auto look = [&](const std::string& name, const std::string& reason) {
      if (broken.empty() && !reason.empty()) broken = fmt::format("it needs {}: {}", name, reason);
    };
    for (const LinkIndex link : needs.links) {
      if (auto done = need_link(link); !done) return tl::unexpected(done.error());
      look("the link " + store_.links[link].name, store_.links[link].broken);
    }
    for (const TableIndex t : needs.tables) {
      if (t == own) continue;
      if (auto done = need_table(t); !done) return tl::unexpected(done.error());
      look("the table " + store_.tables[t].name, store_.tables[t].broken);
    }
    for (const ColumnId id : needs.columns) {
      if (auto done = need_column(id); !done) return tl::unexpected(done.error());
      look(model_.column_name(id), store_.tables[id.table].columns[id.column].broken);
    }
    return broken;
  }

  // A column without rows, and so in a table that is broken.
  void mark_broken(ColumnId id, const std::string& reason) {
    store::StoredColumn& stored = store_.tables[id.table].columns[id.column];
    stored.broken = reason;
    stored.data = store::encode_column(source::column_of(stored.data.type, 0, [](auto, auto, auto&) {}));
    column_done_[id.table][id.column] = true;
  }

  // Computes a calculated table after everything that it is made from.
  Result<void> need_table(TableIndex t) {
    const Table& table = model_.tables[t];
    if (!table.rows || table_done_[t]) return {};
    const auto broken = need(needs_of(model_, table.rows), t);
    if (!broken) return tl::unexpected(broken.error());
    if (!broken->empty()) {
      store_.tables[t].broken = *broken;
      for (std::uint32_t c = 0; c < table.columns.size(); ++c) mark_broken({t, c}, *broken);
      table_done_[t] = true;
      return {};
    }
    const auto begin = Clock::now();
    report({"computing " + table.name, 0, 0, 0});
    const auto made = engine::evaluate_table(source_, t, options_.threads);
    if (!made) return tl::unexpected(made.error());
    store::StoredTable& stored = store_.tables[t];
    stored.rows = made->rows;
    for (std::uint32_t c = 0; c < table.columns.size(); ++c) {
      if (!table.columns[c].from_row) continue;
      if (const auto bad = overflowed_row(*made->columns[c])) return overflow({t, c}, *bad);
      const auto encode_begin = Clock::now();
      stored.columns[c].data = store::encode_column(to_input(table.columns[c].type, *made->columns[c]));
      stored.columns[c].encode_nanoseconds = nanoseconds_since(encode_begin);
      column_done_[t][c] = true;
    }
    stored.read_nanoseconds = nanoseconds_since(begin);
    table_done_[t] = true;
    return {};
  }

  // Computes a calculated column after everything that it reads.
  Result<void> need_column(ColumnId id) {
    if (column_done_[id.table][id.column]) return {};
    const Column& column = model_.column(id);
    if (column.from_row) return need_table(id.table);
    if (model_.tables[id.table].rows) {
      if (auto ready = need_table(id.table); !ready || column_done_[id.table][id.column]) return ready;
    }
    const auto broken = need(needs_of(model_, column.expression, id.table), id.table);
    if (!broken) return tl::unexpected(broken.error());
    if (!broken->empty()) {
      mark_broken(id, *broken);
      return {};
    }
    const auto begin = Clock::now();
    report({"computing " + model_.column_name(id), store_.tables[id.table].rows, 0, 0});
    const auto rows = engine::evaluate_rows(source_, id.table, column.expression, options_.threads);
    if (!rows) return tl::unexpected(rows.error());
    if (const auto bad = overflowed_row(*rows->values)) return overflow(id, *bad);
    store::StoredColumn& stored = store_.tables[id.table].columns[id.column];
    stored.evaluate_nanoseconds = nanoseconds_since(begin);
    const auto encode_begin = Clock::now();
    stored.data = store::encode_column(to_input(column.type, *rows->values));
    stored.encode_nanoseconds = nanoseconds_since(encode_begin);
    column_done_[id.table][id.column] = true;
    return {};
  }

  // Where a row stood in the files: where rows were sorted, by the column that tells; as it is where none does.
  std::uint64_t file_row(TableIndex t, std::uint64_t row) const {
    const store::StoredTable& table = store_.tables[t];
    if (table.file_order != store::no_column) {
      const auto codes = table.columns[table.file_order].data.codes.decoded();
      row = static_cast<std::uint64_t>(
          std::count_if(codes.begin(), codes.end(), [&](std::uint64_t code) { return code < codes[row]; }));
    }
    return kept_rows_[t].empty() ? row : kept_rows_[t][row];
  }

  // The places of rows of the files; nothing where the rows were sorted and no column tells how they stood there.
  std::vector<Place> places_of(TableIndex t, const std::vector<std::uint64_t>& file_rows) const {
    const store::StoredTable& table = store_.tables[t];
    if (!table.order.empty() && table.file_order == store::no_column) return {};
    return source::locate_rows(loading::table_request(model_, t), file_rows);
  }

  Result<void> overflow(ColumnId id, std::uint64_t stored_row) const {
    const std::uint64_t row = file_row(id.table, stored_row);
    const auto places = places_of(id.table, {row});
    const std::string where = places.empty() ? "" : fmt::format(" ({}:{})", places[0].file, places[0].line);
    return tl::unexpected(Diagnostics{model_.sources.diagnostic(
        Severity::error, "JR-704", model_.column(id).name_span,
        fmt::format("{} does not fit 64 bits in row {}{}", model_.column_name(id), row + 1, where),
        "round it to fewer digits after the point, or compute a real")});
  }

  // A key holds a value in each row, and each value once. Where links lead to it, what does not breaks these alone: the
  // declaration can't be left out there.
  Diagnostics check_keys(TableIndex t) const {
    Diagnostics errors;
    if (model_.tables[t].rows) return errors;  // its key holds each value once, and null may be one
    for (std::uint32_t c = 0; c < model_.tables[t].columns.size(); ++c) {
      const store::Column& column = store_.tables[t].columns[c].data;
      if (!model_.tables[t].columns[c].key || column.distinct == column.rows) continue;
      const auto leads_here = [&](const Link& link) {
        return link.to.table == t && link.to.columns == std::vector<std::uint32_t>{c};
      };
      if (std::any_of(model_.links.begin(), model_.links.end(), leads_here)) continue;
      const auto found = repeated_rows({t, c});
      errors.insert(errors.end(), found.begin(), found.end());
    }
    return errors;
  }

  // The first few rows whose key is null or was there before.
  Diagnostics repeated_rows(ColumnId id) const {
    constexpr std::size_t most = 5;
    const store::Column& column = source_.column(id);
    std::unordered_map<std::uint64_t, std::uint64_t> first;
    std::vector<std::uint64_t> rows;
    std::vector<std::string> messages;
    for (std::uint64_t row = 0; row < column.rows && rows.size() < most; ++row) {
      const std::uint64_t code = column.codes.at(row);
      if (code == column.null_code) {
        messages.push_back(fmt::format("the key {} is null here", model_.column_name(id)));
      } else if (const auto [at, fresh] = first.emplace(code, row); fresh) {
        continue;
      } else {
        messages.push_back(fmt::format("the key {} is {} here and in row {} already", model_.column_name(id),
                                       to_text(column.value_of(code), column.type),
                                       file_row(id.table, at->second) + 1));
      }
      rows.push_back(file_row(id.table, row));
    }
    const std::vector<Place> places = places_of(id.table, rows);
    Diagnostics errors;
    const std::uint64_t repeated = column.rows - column.distinct - column.nulls;
    for (std::size_t i = 0; i < rows.size(); ++i) {
      const auto error =
          base::error_at("JR-508", i < places.size() ? places[i] : Place{model_.tables[id.table].source_pattern, 0, 0},
                         fmt::format("{} ({} null and {} repeated keys in all)", messages[i], column.nulls, repeated),
                         "a key names one row: mend the data, or declare the column without `key`");
      errors.insert(errors.end(), error.begin(), error.end());
    }
    return errors;
  }

  // A column of a source that is to be encoded.
  struct ReadColumn {
    TableIndex table;
    std::uint32_t column;
    source::ColumnInput input;
  };
  store::StoredColumn& encoded(const ReadColumn& read) { return store_.tables[read.table].columns[read.column]; }

  const CheckedModel& model_;
  const Options& options_;
  std::set<std::string> to_sort_;
  const store::Store* earlier_;
  source::Rejects* rejects_;
  store::StoreWriter& writer_;  // gets what is made as soon as it is
  store::Store store_;
  engine::Source source_;
  std::vector<std::uint64_t> files_read_;  // of each table
  std::vector<ReadColumn> read_columns_;
  std::vector<std::vector<std::uint64_t>> kept_rows_;  // of each table, those of its files, where some were left out
  std::vector<std::vector<bool>> column_done_;
  std::vector<std::uint8_t> link_done_;  // bytes: several are set at once
  std::vector<bool> table_done_;
};

// What a store says about its model's links that is no error, and worth a look.
Diagnostics data_warnings(const CheckedModel& model, const store::Store& store) {
  Diagnostics warnings;
  const auto warn = [&](const char* code, Span place, std::string message, const char* suggestion) {
    warnings.push_back(model.sources.diagnostic(Severity::warning, code, place, std::move(message), suggestion));
  };
  for (LinkIndex i = 0; i < model.links.size(); ++i) {
    const Link& link = model.links[i];
    const std::string& broken = store.links[i].broken;
    if (!broken.empty() && link.broken.empty()) {
      warn("JR-515", link.span, fmt::format("the link {} is broken: {}", store.links[i].name, broken),
           "mend the data, or link by what is different in every row; what does not cross the link is answered");
    }
    if (link.to.columns.size() != 1) continue;
    const ColumnId key{link.to.table, link.to.columns[0]};
    const store::Column& column = store.tables[key.table].columns[key.column].data;
    const bool told = std::any_of(model.links.begin(), model.links.begin() + i,
                                  [&](const Link& other) { return other.to.table == key.table; });
    if (column.nulls != 0 && model.column(key).key && !told && !model.tables[key.table].rows) {
      warn("JR-508", model.column(key).name_span,
           fmt::format("{} is a key and null in {} of {} rows: no link leads to these", model.column_name(key),
                       column.nulls, column.rows),
           "mend the data");
    }
  }
  std::string names;
  std::optional<Span> first;
  const auto add = [&](const std::string& name, Span place) {
    names += (names.empty() ? "" : ", ") + name;
    if (!first) first = place;
  };
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    const store::StoredTable& table = store.tables[t];
    if (!table.broken.empty()) {
      add(table.name, model.tables[t].name_span);
      continue;
    }
    for (std::uint32_t c = 0; c < table.columns.size(); ++c) {
      if (!table.columns[c].broken.empty()) add(model.column_name({t, c}), model.column({t, c}).name_span);
    }
  }
  if (first) warn("JR-515", *first, "nothing is computed of what needs a broken link: " + names, "mend the link");
  return warnings;
}

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
};

LoadReport describe(const Loaded& loaded, const std::string& path) {
  const store::Store& store = loaded.store;
  LoadReport report;
  report.store = path;
  report.loaded = loaded.loaded;
  for (std::size_t t = 0; t < store.tables.size(); ++t) {
    const store::StoredTable& table = store.tables[t];
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
    for (const store::StoredColumn& column : table.columns) {
      const std::uint64_t bytes = column.data.bytes();
      row.bytes += bytes;
      if (column.calculated) row.total_nanoseconds += column.evaluate_nanoseconds + column.encode_nanoseconds;
      report.columns.push_back({table.name, column.name, table.rows, bytes, column.evaluate_nanoseconds,
                                column.encode_nanoseconds, column.calculated});
    }
    if (table.order_asked || !table.order.empty()) {
      report.orders.push_back({table.name, table.order, table.order_saved_bytes,
                               table.file_order == store::no_column ? "" : table.columns[table.file_order].name});
    }
    report.source_bytes += table.source_bytes;
    report.tables.push_back(std::move(row));
  }
  for (const store::StoredLink& link : store.links)
    report.links.push_back({link.name, link.rows.size(), link.rows.bytes().size(), link.resolve_nanoseconds});
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

// Makes sure that a fresh store stands at `path`, from the one that is there now, if one is, and opens it.
Result<Loaded> refresh(const Model& model, const std::string& path, Result<store::Store> earlier,
                       const Options& options, const LoadSettings& settings) {
  const std::string wanted = loading::signature(model::checked(model), *options.today);
  const bool use_earlier = earlier && settings.reload == Reload::when_stale;
  const std::set<std::string> to_sort =
      tables_to_sort(model::checked(model), settings.order, earlier ? &*earlier : nullptr);
  const auto stands_so = [&](const store::StoredTable& table) {
    return table.signature.empty() || table.order_asked == to_sort.contains(table.name);
  };
  if (use_earlier && std::all_of(earlier->tables.begin(), earlier->tables.end(), stands_so) &&
      loading::is_fresh(*earlier, model::checked(model), wanted)) {
    if (auto accepted = accept(model, *earlier); !accepted) return tl::unexpected(accepted.error());
    return Loaded{std::move(*earlier), false, {}};
  }
  std::optional<source::Rejects> rejects;
  if (!settings.rejects.empty()) {
    auto opened = source::Rejects::open(settings.rejects);
    if (!opened) return tl::unexpected(opened.error());
    rejects = std::move(*opened);
  }
  store::StoreWriter writer(path);
  Loader loader(model, options, to_sort, use_earlier ? &*earlier : nullptr, rejects ? &*rejects : nullptr, writer);
  auto loaded = loader.run(wanted);
  if (!loaded) return tl::unexpected(loaded.error());
  if (auto accepted = accept(model, *loaded); !accepted) return tl::unexpected(accepted.error());
  if (rejects) {
    if (auto closed = rejects->close(); !closed) return tl::unexpected(closed.error());
  }
  if (auto written = writer.finish(*loaded); !written) return tl::unexpected(written.error());
  return Loaded{std::move(*loaded), true, loader.files_read()};
}

}  // namespace

namespace loading {

Result<store::Store> load_beside(const Model& model, const std::filesystem::path& path, const store::Store& earlier,
                                 const Options& options) {
  store::StoreWriter writer(path);
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
    const Options options = settled(given);
    auto model = Model::read(path, options.reading);
    if (!model) return tl::unexpected(model.error());
    const std::string target = store_path(path, options);
    auto refreshed = refresh(*model, target, store::open_store(target), options, settings);
    if (!refreshed) return tl::unexpected(refreshed.error());
    if (refreshed->store.model_texts != texts_beside(*model)) {
      // Only measures, queries or layout have changed: the store gets the text of today with the data that it has.
      refreshed->store.model_texts = texts_beside(*model);
      if (auto written = store::write_store(refreshed->store, target); !written) return tl::unexpected(written.error());
    }
    LoadReport made = describe(*refreshed, target);
    made.warnings = data_warnings(model::checked(*model), refreshed->store);
    made.warnings.insert(made.warnings.begin(), model->warnings().begin(), model->warnings().end());
    return made;
  });
}

Result<Verification> verify(const std::string& path, const Options& options) {
  return base::guarded([&]() -> Result<Verification> {
    const std::string file = is_store(path) ? path : store_path(path, options);
    const auto store = store::open_store(file);
    if (!store) return tl::unexpected(store.error());
    store::verify(*store, options.threads);
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
    const Options options = settled(given);
    if (is_store(path)) {
      auto store = store::open_store(path);
      if (!store) return tl::unexpected(store.error());
      std::vector<ModelText> texts = store->model_texts;
      for (ModelText& text : texts)
        text.name = (std::filesystem::path(path).parent_path() / text.name).lexically_normal().string();
      auto model = Model::parse(texts, options.reading);
      if (!model) return tl::unexpected(model.error());
      if (auto accepted = accept(*model, *store); !accepted) return tl::unexpected(accepted.error());
      return store::dataset_of(std::move(*model), std::make_shared<const store::Store>(std::move(*store)), options);
    }
    auto model = Model::read(path, options.reading);
    if (!model) return tl::unexpected(model.error());
    const std::string target = store_path(path, options);
    // A store that is there and damaged is told, not silently replaced: something is wrong with the disk or the file.
    auto earlier = store::open_store(target);
    std::error_code ignored;
    if (!earlier && earlier.error()[0].code != "JR-604" && std::filesystem::exists(target, ignored))
      return tl::unexpected(earlier.error());
    auto refreshed = refresh(*model, target, std::move(earlier), options, {});
    if (!refreshed) return tl::unexpected(refreshed.error());
    return store::dataset_of(std::move(*model), std::make_shared<const store::Store>(std::move(refreshed->store)),
                             options);
  });
}

}  // namespace juniper
