// Makes a store from a model's text and its files: reads, encodes, leaves out and sorts rows, resolves links, computes.
#pragma once

#include <chrono>
#include <cstdint>
#include <optional>
#include <set>
#include <span>
#include <string>
#include <vector>

#include "engine/asked/source.h"
#include "engine/asked/watch.h"
#include "juniper/dataset.h"
#include "language/traverse.h"
#include "loading/carried_columns.h"
#include "loading/seen_rows.h"
#include "model/uses.h"
#include "source/column_input.h"
#include "source/rejects.h"
#include "source/source.h"
#include "store/resolve_link.h"
#include "store/store.h"

namespace juniper::loading {

using namespace language;

// The day that today() is: what the options say, or else that of the clock.
std::int64_t today_of(const Options& options);

// The model's texts, named as seen from the folder of the first.
std::vector<ModelText> texts_beside(const Model& model);

inline std::int64_t nanoseconds_since(std::chrono::steady_clock::time_point begin) {
  return std::chrono::nanoseconds(std::chrono::steady_clock::now() - begin).count();
}

class Loader {
 public:
  // `earlier` may be nothing; what has not changed is taken from there.
  // `to_sort`: the tables for which a smaller order of rows is looked for.
  Loader(const Model& model, const Options& options, std::set<std::string> to_sort, const store::Store* earlier,
         source::Rejects* rejects, store::StoreWriter& writer);
  // What stands on servers is read again, not taken from the earlier store.
  void ask_servers() { asks_servers_ = true; }
  // Of the rows of the earlier store, which is everybody's, these alone are taken over.
  void see_only(SeenRows rows) { seen_rows_ = std::move(rows); }

  // Of each table, how many files were read; after `run`.
  const std::vector<std::uint64_t>& files_read() const { return files_read_; }
  // The calculated columns whose values the earlier store gave; after `run`.
  const std::set<ColumnId>& carried() const { return carried_; }
  Result<store::Store> run(const std::string& signature);

 private:
  // Tells how far it is; throws where the load was called off (JR-707).
  void report(const Progress& progress) const;
  Result<void> read_table(TableIndex t);

  // True if a table's rows may be put in another order than that of its files.
  bool sorts(TableIndex t) const { return store_.tables[t].order_asked || !model_.tables[t].sorted_by.empty(); }

  // Room for the columns of a calculated table, which is computed later, and of a live one, whose rows stay away.
  Result<void> declare_table(TableIndex t);

  // A missing file is told at the place in the model text that names it.
  Diagnostics with_place(Diagnostics errors, const Table& table) const;

  // Encodes the columns of all sources together, the largest first, so that no thread is left with one at the end.
  void encode();

  // Leaves out the rows that the reader does not see. Errors: JR-223 (a table is not what the earlier store holds).
  Result<void> leave_out_unseen();
  void keep_rows(TableIndex t, const std::vector<std::uint64_t>& rows);

  // Leaves out the rows of files that no link leads to, where the text says so: before anything is calculated.
  void leave_out_unreached();
  void leave_out_unreached(TableIndex t, std::vector<bool>& done);

  // 1 for each row of a table's files that some link of those that count leads to. Nothing, and so all rows stay, where
  // one of these links is broken: nobody knows where it would lead.
  std::optional<std::vector<std::uint8_t>> reached_rows(TableIndex t) const;

  // Sorts the rows of tables as the text says, or, where that was asked for, in a smaller order: where nothing depends
  // on their order or a column tells it.
  Result<void> order_rows();
  Result<void> need_link(LinkIndex index);

  // Resolves a link, unless it is broken or turns out to be.
  void resolve(LinkIndex index, std::span<const store::Column* const> from, std::span<const store::Column* const> to,
               std::string broken);

  // Links by one column of sources on each side need nothing to be computed first: all together.
  void resolve_source_links();
  std::string why_broken(const Link& link, std::span<const store::Column* const> to,
                         const store::RepeatedKey& repeated) const;

  // Why what has these needs can't be computed: the first of them that is broken; "" if all are whole.
  Result<std::string> need(const Needs& needs, std::optional<TableIndex> own);

  // A column without rows, and so in a table that is broken.
  void mark_broken(ColumnId id, const std::string& reason);

  // Computes a calculated table after everything that it is made from.
  Result<void> need_table(TableIndex t);

  // Computes a calculated column after everything that it reads.
  Result<void> need_column(ColumnId id);

  // Where a row stood in the files: where rows were sorted, by the column that tells; as it is where none does.
  std::uint64_t file_row(TableIndex t, std::uint64_t row) const;

  // The places of rows of the files; nothing where the rows were sorted and no column tells how they stood there.
  std::vector<Place> places_of(TableIndex t, const std::vector<std::uint64_t>& file_rows) const;
  Result<void> overflow(ColumnId id, std::uint64_t stored_row) const;

  // A key holds a value in each row, and each value once. Where links lead to it, what does not breaks these alone: the
  // declaration can't be left out there.
  Diagnostics check_keys(TableIndex t) const;

  // The first few rows whose key is null or was there before.
  Diagnostics repeated_rows(ColumnId id) const;
  // The same of a key of several columns.
  Diagnostics repeated_rows(TableIndex t, const TableKey& key) const;

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
  bool asks_servers_ = false;
  source::Connections connections_;
  Options watched_;  // what calls the load off
  engine::Watch watch_{watched_};
  store::StoreWriter& writer_;  // gets what is made as soon as it is
  store::Store store_;
  engine::Source source_;
  std::vector<std::uint64_t> files_read_;  // of each table
  std::vector<bool> unchanged_;            // whether a table's rows stand as they stood in the earlier store
  CarriedColumns carried_columns_;
  std::set<ColumnId> carried_;
  std::vector<ReadColumn> read_columns_;
  SeenRows seen_rows_;                                 // of each table; none where everybody's are loaded
  std::vector<std::vector<std::uint64_t>> kept_rows_;  // of each table, those of its files, where some were left out
  std::vector<std::vector<bool>> column_done_;
  std::vector<std::uint8_t> link_done_;  // bytes: several are set at once
  std::vector<bool> table_done_;
};

}  // namespace juniper::loading
