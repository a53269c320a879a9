#include "refactor/row_identity.h"

#include <algorithm>
#include <numeric>

#include "base/large_vector.h"
#include "base/sort.h"
#include "model/access.h"
#include "model/uses.h"
#include "refactor/row_compare.h"
#include "store/of_dataset.h"

namespace juniper::refactoring {

namespace {

using namespace language;

// A column of a table in both models, with one type.
struct SharedColumn {
  std::string name;
  const store::Column* before;
  const store::Column* after;
};

std::vector<SharedColumn> shared_columns(const Dataset& before, const Dataset& after, const std::string& table) {
  const store::StoredTable& was = store::store_of(before).tables[*model::checked(before.model()).find_table(table)];
  const store::StoredTable& is = store::store_of(after).tables[*model::checked(after.model()).find_table(table)];
  std::vector<SharedColumn> shared;
  for (const store::StoredColumn& column : was.columns) {
    const auto same = std::find_if(is.columns.begin(), is.columns.end(), [&](const store::StoredColumn& c) {
      return c.name == column.name && c.data.type == column.data.type && c.broken.empty();
    });
    if (column.broken.empty() && same != is.columns.end()) shared.push_back({column.name, &column.data, &same->data});
  }
  return shared;
}

constexpr std::uint64_t unknown = std::numeric_limits<std::uint64_t>::max();

// Which row of a table stands after a change for each row before, as links tell; and what differs between the two.
class RowImages {
 public:
  RowImages(const Dataset& before, const Dataset& after, const std::string& table, std::uint64_t rows)
      : columns_(shared_columns(before, after, table)), image_(rows, unknown) {}

  // What differs where a row leads to `was` before and to `is` after; nothing where these are the same.
  std::optional<std::string> differs(std::uint64_t was, std::uint64_t is) {
    std::uint64_t& image = image_[was];
    if (image == is) return std::nullopt;
    if (image != unknown) return fmt::format("led to row {} and to another one now", was + 1);
    for (const SharedColumn& column : columns_) {
      const Value a = column.before->at(was);
      const Value b = column.after->at(is);
      if (a == b) continue;
      return fmt::format("led to a row with {} {}, and to one with {} now", column.name, shown(a, column.before->type),
                         shown(b, column.after->type));
    }
    image = is;
    return std::nullopt;
  }

 private:
  std::vector<SharedColumn> columns_;
  std::vector<std::uint64_t> image_;
};

// The row that each row of the many side leads to, block by block.
class Targets {
 public:
  explicit Targets(store::LinkRows link) : link_(std::move(link)), rows_(store::block_rows) {}
  // Nothing where it leads to none.
  std::optional<std::uint64_t> at(std::uint64_t row) {
    if (row / store::block_rows != block_) {
      block_ = row / store::block_rows;
      link_.decode_block(block_, rows_.data());
    }
    const std::uint64_t target = rows_[row % store::block_rows];
    return target == link_.no_row() ? std::nullopt : std::optional(target);
  }

 private:
  store::LinkRows link_;
  std::vector<std::uint64_t> rows_;
  std::uint64_t block_ = std::numeric_limits<std::uint64_t>::max();
};

void prove_link(const Dataset& before, const Dataset& after, LinkIndex index, RowProof& proof) {
  const store::StoredLink& was = store::store_of(before).links[index];
  const store::StoredLink& is = store::store_of(after).links[index];
  RowImages images(before, after,
                   model::checked(before.model()).tables[model::checked(before.model()).links[index].to.table].name,
                   was.no_row);
  Targets was_targets(store::link_rows(store::store_of(before), was));
  Targets is_targets(store::link_rows(store::store_of(after), is));
  compare_rows(proof, store::store_of(before).tables[was.table].rows,
               [&](std::uint64_t row) -> std::optional<std::string> {
                 const auto a = was_targets.at(row);
                 const auto b = is_targets.at(row);
                 if (a && b) return images.differs(*a, *b);
                 if (!a && !b) return std::nullopt;
                 return fmt::format("{} over {}",
                                    a ? "led to a row, and to none now," : "led to no row, and to one now,", was.name);
               });
}

// The column of a table that is different in every row, and so tells them apart; nothing if there is none.
const SharedColumn* telling_column(const std::vector<SharedColumn>& columns) {
  const auto at = std::find_if(columns.begin(), columns.end(), [](const SharedColumn& c) {
    return c.before->distinct == c.before->rows && c.before->layout != store::Layout::bits;
  });
  return at == columns.end() ? nullptr : &*at;
}

using Rows = base::LargeVector<std::uint32_t>;

// Rows in the order of a column's codes.
Rows rows_by_code(const store::Column& column) {
  base::LargeVector<base::uint128> keys(column.rows);
  const std::vector<std::uint64_t> codes = column.codes.decoded();
  for (std::uint64_t row = 0; row < column.rows; ++row) keys[row] = base::uint128{codes[row]} << 32 | row;
  base::sort_numbers(keys);
  Rows rows(column.rows);
  for (std::uint64_t i = 0; i < column.rows; ++i) rows[i] = static_cast<std::uint32_t>(keys[i]);
  return rows;
}

}  // namespace

RowProof prove_relinked(const Dataset& before, const Dataset& after, const Claim& claim) {
  RowProof proof;
  proof.expression = model::checked(after.model()).link_name(model::checked(after.model()).links[claim.link]);
  prove_link(before, after, claim.link, proof);
  return proof;
}

RowProof prove_trimmed(const Dataset& before, const Dataset& after, const Claim& claim) {
  RowProof proof;
  const CheckedModel& model = model::checked(before.model());
  const TableIndex table = *model.find_table(claim.table);
  proof.expression = "the rows that links lead to";
  for (LinkIndex i = 0; i < model.links.size(); ++i) {
    if (model.links[i].to.table == table && store::store_of(before).links[i].broken.empty())
      prove_link(before, after, i, proof);
  }
  return proof;
}

Result<RowProof> prove_reordered(const Dataset& before, const Dataset& after, const Claim& claim) {
  RowProof proof;
  const store::StoredTable& sorted =
      store::store_of(after).tables[*model::checked(after.model()).find_table(claim.table)];
  proof.expression = "the same rows sorted by " + sorted.order;
  const std::vector<SharedColumn> columns = shared_columns(before, after, claim.table);
  const SharedColumn* const key = telling_column(columns);
  if (key == nullptr || key->after->rows != key->before->rows || key->after->distinct != key->before->distinct) {
    proof.rows = sorted.rows;
    proof.differing = sorted.rows;
    proof.samples.push_back("no column tells the rows apart");
    return proof;
  }
  // Codes stand in the order of values: the rows of the smallest, the next, and so on belong together.
  const Rows was_rows = rows_by_code(*key->before);
  const Rows is_rows = rows_by_code(*key->after);
  std::vector<std::uint64_t> from(sorted.rows);
  for (std::uint64_t i = 0; i < sorted.rows; ++i) from[is_rows[i]] = was_rows[i];
  std::vector<std::string> differing(sorted.rows);
  for (const SharedColumn& column : columns) {
    const std::vector<std::uint64_t> was = column.before->codes.decoded();
    const std::vector<std::uint64_t> is = column.after->codes.decoded();
    // Of each code the value is compared once, where there are few enough to remember.
    const std::uint64_t codes = column.before->null_code;
    std::vector<std::uint64_t> same(codes < 4 * sorted.rows ? codes + 1 : 0, unknown);
    for (std::uint64_t row = 0; row < is.size(); ++row) {
      const std::uint64_t code = was[from[row]];
      if (code < same.size() && same[code] == is[row]) continue;
      const Value a = column.before->at(from[row]);
      const Value b = column.after->at(row);
      if (a == b) {
        if (code < same.size()) same[code] = is[row];
      } else if (differing[row].empty()) {
        differing[row] = fmt::format("{} was {}, and is {} now", column.name, shown(a, column.before->type),
                                     shown(b, column.after->type));
      }
    }
  }
  compare_rows(proof, sorted.rows, [&](std::uint64_t row) {
    return differing[row].empty() ? std::nullopt : std::optional(differing[row]);
  });
  return proof;
}

}  // namespace juniper::refactoring
