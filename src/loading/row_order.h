// An order of a table's rows in which its columns take fewer bytes.
//
// Runs and near values come from sorting. Which columns to sort by is found by trying, on a sample of stretches of
// neighbouring rows: column by column, the one is taken next that makes the codes smallest, as long as that gains
// anything; ties stand in the order of the files. What is found is measured on all rows and kept only if it is smaller.
// (Why any order helps, and why columns of few values go first: Lemire and Kaser, Reordering columns for smaller
// indexes, Information Sciences 181, 2011.)
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <vector>

#include "language/checked.h"
#include "store/store.h"

namespace juniper::loading {

// The column whose values ascend from row to row, each different: it tells the order of the rows after any other.
// Nothing if there is none.
std::optional<std::uint32_t> ascending_column(const store::StoredTable& table);

// True if a table's rows may be sorted: nothing depends on their order, as a key settles ties, or a column tells it.
bool may_sort(const language::Table& declared, const store::StoredTable& table);

// True if a table whose rows were sorted may stay so as it is declared now: something still settles ties, or tells the
// order of the files.
bool may_stay_sorted(const language::Table& declared, const store::StoredTable& table);

// The order of rows that a text declares, as StoredTable::order names it; "" if there is none.
std::string order_name(const language::Table& declared);

// How often each column's codes are held: once, and for each link that has a row for each of its rows.
std::vector<unsigned> code_weights(const language::CheckedModel& model, language::TableIndex table,
                                   const store::StoredTable& stored);

// The columns to sort by so that a table, none of whose columns are calculated yet, takes fewer bytes; none where no
// order is smaller. `weights`: as code_weights.
std::vector<std::uint32_t> smaller_order(const store::StoredTable& table, std::span<const unsigned> weights,
                                         unsigned threads);

enum class SortIf : std::uint8_t { smaller, asked };

// Sorts the rows of a table, none of whose columns are calculated yet, by columns, none of them real; nulls come last,
// ties stand in the order of the files. Fills in order, order_saved_bytes and file_order. Leaves the table as it is
// where there are no columns, or the bytes are not fewer and `when` asks for that.
void sort_rows(store::StoredTable& table, const std::vector<std::uint32_t>& columns, std::span<const unsigned> weights,
               SortIf when, unsigned threads);

// The bytes that a table of a whole store takes less, or more, once its rows are sorted by columns: of its columns,
// calculated ones included, of the links that lead from it, and of those that lead to it, whose rows get other numbers.
std::int64_t saved_by_order(const language::CheckedModel& model, const store::Store& store, language::TableIndex table,
                            const std::vector<std::uint32_t>& columns, unsigned threads);

// A table's columns that are not calculated, in the order of its files. Nothing if no column tells it.
std::optional<store::StoredTable> in_file_order(const store::StoredTable& table, unsigned threads);

}  // namespace juniper::loading
