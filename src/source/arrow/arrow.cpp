#include "source/arrow/arrow.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "source/arrow/columns.h"

namespace juniper::source {

namespace {

using arrow::ColumnView;
using arrow::Stream;

// A batch that is read in several pieces.
struct ArrowBatch {
  std::shared_ptr<const std::string> schema;  // what the columns view
  std::vector<ColumnView> columns;
  std::vector<std::size_t> places;  // of each requested column among them
  std::uint64_t rows = 0;
};

class ArrowPiece : public RecordPiece {
 public:
  ArrowPiece(std::shared_ptr<const ArrowBatch> batch, std::uint64_t begin, std::uint64_t end)
      : batch_(std::move(batch)), begin_(begin), end_(end) {}

  Cells read() override {
    Cells cells(batch_->places.size());
    for (std::uint64_t row = begin_; row < end_; ++row) {
      cells.add_row(static_cast<std::uint32_t>(row - begin_));
      for (std::size_t c = 0; c < batch_->places.size(); ++c)
        cells.last(c) = batch_->columns[batch_->places[c]].at(row, cells);
    }
    cells.set_lines(static_cast<std::uint32_t>(end_ - begin_));
    return cells;
  }

 private:
  std::shared_ptr<const ArrowBatch> batch_;
  std::uint64_t begin_;
  std::uint64_t end_;
};

// The columns of a schema that is read here.
std::vector<arrow::Leaf> checked_leaves(const Stream& stream) {
  if (stream.schema().order() != arrow_ipc::Order_little)
    stream.fail("its numbers begin with their highest byte, which is not read");
  return arrow::leaves_of(stream.schema());
}

class ArrowSource : public RecordSource {
 public:
  ArrowSource(const TableRequest& request, const std::filesystem::path& path) : request_(request), stream_(path) {
    const std::vector<arrow::Leaf> leaves = checked_leaves(stream_);
    std::vector<std::string> names;
    for (const arrow::Leaf& leaf : leaves) names.push_back(leaf.name);
    const auto positions = find_columns(request, names, stream_.name(), 0);
    if (!positions) throw base::Failure(positions.error());
    wanted_.resize(leaves.size());
    for (std::size_t c = 0; c < positions->size(); ++c) {
      const arrow::Leaf& leaf = leaves[(*positions)[c]];
      if (!leaf.refusal.empty()) {
        throw base::Failure(base::error_at("JR-518", Place{stream_.name(), 0, 0},
                                           fmt::format("the column '{}' can't be read for {}.{}: {}", leaf.name,
                                                       request.name, request.columns[c].name, leaf.refusal),
                                           "leave the column out of the model"));
      }
      wanted_[(*positions)[c]] = 1;
    }
    for (const std::size_t position : *positions)
      places_.push_back(static_cast<std::size_t>(
          std::count(wanted_.begin(), wanted_.begin() + static_cast<std::ptrdiff_t>(position), 1)));
  }

  std::unique_ptr<RecordPiece> next() override {
    while (batch_ == nullptr || row_ == batch_->rows) {
      if (!next_batch()) return nullptr;
    }
    const std::uint64_t begin = row_;
    row_ = std::min(batch_->rows, begin + rows_of_record_piece);
    return std::make_unique<ArrowPiece>(batch_, begin, row_);
  }
  std::uint64_t bytes_read() const override { return stream_.bytes_read(); }
  void finish(SourceFile& source) const override { stream_.finish(request_, source); }

 private:
  bool next_batch() {
    Stream::Message message;
    while (stream_.next(message)) {
      const auto body = std::make_shared<const std::string>(std::move(message.body));
      if (const auto* const dictionary = message.data->header_as_DictionaryBatch()) {
        arrow::read_dictionary(stream_, stream_.schema(), *dictionary, body, dictionaries_);
      } else if (const auto* const batch = message.data->header_as_RecordBatch()) {
        auto made = std::make_shared<ArrowBatch>();
        made->schema = stream_.schema_memory();
        made->columns = arrow::read_batch(stream_, stream_.schema(), *batch, body, wanted_, dictionaries_);
        made->places = places_;
        made->rows = static_cast<std::uint64_t>(batch->length());
        batch_ = std::move(made);
        row_ = 0;
        return true;
      } else {
        stream_.fail("a message of a kind that is not read");
      }
    }
    return false;
  }

  const TableRequest& request_;
  Stream stream_;
  std::vector<std::uint8_t> wanted_;
  std::vector<std::size_t> places_;
  arrow::Dictionaries dictionaries_;
  std::shared_ptr<const ArrowBatch> batch_;
  std::uint64_t row_ = 0;
};

std::unique_ptr<RecordSource> open_arrow(const TableRequest& request, const std::filesystem::path& path, Connections*) {
  return std::make_unique<ArrowSource>(request, path);
}

std::vector<RecordColumn> columns_of_arrow(const TableRequest&, const std::filesystem::path& path) {
  const Stream stream(path);
  std::vector<RecordColumn> columns;
  for (arrow::Leaf& leaf : checked_leaves(stream)) {
    if (leaf.refusal.empty()) columns.push_back({std::move(leaf.name), std::nullopt});
  }
  return columns;
}

}  // namespace

RecordKind arrow_kind() {
  return {open_arrow, columns_of_arrow, true};
}

}  // namespace juniper::source
