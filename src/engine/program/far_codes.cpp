#include "engine/program/far_codes.h"

#include "base/parallel.h"

namespace juniper::engine {

std::vector<CodesOnTheWay> codes_along(const Source& source, std::span<const language::LinkIndex> path,
                                       const store::Column* column) {
  std::vector<CodesOnTheWay> steps;
  for (const language::LinkIndex index : path) {
    const store::StoredLink& link = source.link(index);
    const std::uint64_t no_row = link.no_row;
    if (link.reads_key()) {
      const store::Column& key =
          source.column({static_cast<language::TableIndex>(link.table), static_cast<std::uint32_t>(link.column)});
      const bool are_rows = link.form == store::LinkForm::codes_are_rows;
      steps.push_back({&key.codes, are_rows ? no_row : key.null_code});
      if (are_rows) continue;
    }
    steps.push_back({&link.rows, no_row});
  }
  if (column != nullptr) steps.push_back({&column->codes, column->null_code});
  return steps;
}

FarCodes::FarCodes(const Source& source, std::span<const CodesOnTheWay> steps)
    : source_(source),
      stored_(steps[0].codes),
      rows_(static_cast<std::size_t>(stored_->size())),
      none_(static_cast<std::uint32_t>(steps.back().none)) {
  if (steps.size() > 1) behind_ = std::make_unique<const FarCodes>(source, steps.subspan(1));
}

std::size_t FarCodes::read_block(std::size_t block, std::uint32_t* out) const {
  std::size_t count = 0;
  if (block < stored_->blocks()) {
    count = stored_->rows_in_block(block);
    stored_->decode_block(block, out);
    if (behind_) {
      const std::vector<std::uint32_t>& behind = behind_->all();
      for (std::size_t i = 0; i < count; ++i) out[i] = behind[out[i]];
    }
  }
  if (block * store::block_rows + count == rows_ && count < store::block_rows) out[count++] = none_;
  return count;
}

const std::vector<std::uint32_t>& FarCodes::all() const {
  std::call_once(written_, [&] {
    std::vector<std::uint32_t> codes(size());
    base::parallel_short((size() + store::block_rows - 1) / store::block_rows, source_.threads,
                         [&](std::size_t block) { read_block(block, codes.data() + block * store::block_rows); });
    all_ = std::move(codes);
  });
  return all_;
}

}  // namespace juniper::engine
