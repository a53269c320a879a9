#include "engine/program/far_codes.h"

#include "base/parallel.h"

namespace juniper::engine {

FarCodes::FarCodes(const Source& source, std::span<const language::LinkIndex> path, const store::Column* column,
                   std::uint64_t rows)
    : source_(source), rows_(static_cast<std::size_t>(rows)) {
  if (path.empty()) {
    stored_ = &column->codes;
    none_ = static_cast<std::uint32_t>(column->null_code);
    return;
  }
  const store::StoredLink& link = source.link(path.front());
  stored_ = &link.rows;
  if (path.size() > 1 || column != nullptr) {
    behind_ = std::make_unique<const FarCodes>(source, path.subspan(1), column, link.no_row);
    none_ = behind_->none_;
  } else {
    none_ = static_cast<std::uint32_t>(link.no_row);
  }
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
