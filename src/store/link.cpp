#include "store/link.h"

namespace juniper::store {

bool leads_by_code(const Column& key) {
  return key.null_code <= key.rows / 2;
}

bool may_be_rows(const Column& key, std::uint64_t no_row) {
  return key.nulls == 0 ? key.null_code <= no_row : key.null_code == no_row;
}

LinkRows::LinkRows(const StoredLink& link, const Column& key)
    : link_(&link), read_(link.reads_key() ? &key.codes : &link.rows) {}

std::uint64_t LinkRows::at(std::uint64_t row) const {
  const std::uint64_t code = read_->at(row);
  if (link_->form != LinkForm::by_code) return code;
  return code < link_->rows.size() ? link_->rows.at(code) : link_->no_row;
}

void LinkRows::decode_block(std::size_t block, std::uint64_t* out) {
  read_->decode_block(block, out);
  if (link_->form != LinkForm::by_code) return;
  if (rows_.empty()) {
    rows_ = link_->rows.decoded();
    rows_.push_back(link_->no_row);
  }
  for (std::size_t i = 0; i < rows_in_block(block); ++i) out[i] = rows_[out[i]];
}

std::vector<std::uint64_t> LinkRows::decoded() {
  std::vector<std::uint64_t> all(size());
  for (std::size_t block = 0; block < blocks(); ++block) decode_block(block, all.data() + block * block_rows);
  return all;
}

}  // namespace juniper::store
