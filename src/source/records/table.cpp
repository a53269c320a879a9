#include "source/records/table.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/failure.h"
#include "source/piecewise.h"

namespace juniper::source {

namespace {

// A row as a line of CSV.
std::string record_of(const Cells& cells, std::size_t row, std::size_t columns) {
  std::string record;
  for (std::size_t c = 0; c < columns; ++c) {
    const std::string text = text_of(cells.at(row, c));
    if (c != 0) record += ',';
    const bool is_bare = text.find_first_of(",\"\r\n") == std::string::npos && !text.empty();
    if (is_bare || cells.at(row, c).is_null()) {
      record += text;
      continue;
    }
    record += '"';
    for (const char mark : text) record += mark == '"' ? std::string("\"\"") : std::string(1, mark);
    record += '"';
  }
  return record;
}

// Reads pieces of any kind on one thread.
class CellsReader {
 public:
  CellsReader(const TableRequest& request, const ReadSettings& settings) : request_(request), settings_(settings) {}

  ReadPiece read(const Cells& cells, const WorkerMemory& memory) {
    ReadPiece piece;
    piece.lines = cells.lines();
    for (const BadCells& bad : cells.bad())
      piece.errors.push_back({bad.line, bad.code, bad.message, bad.suggestion, bad.text});
    std::vector<MisfitCell> bad = read_columns(cells, {}, memory, piece);
    piece.rows = cells.rows();
    if (bad.empty() && piece.errors.empty()) return piece;
    std::stable_sort(bad.begin(), bad.end(), [](const MisfitCell& a, const MisfitCell& b) { return a.row < b.row; });
    add_errors(cells, bad, piece);
    std::stable_sort(piece.errors.begin(), piece.errors.end(),
                     [](const RecordError& a, const RecordError& b) { return a.line < b.line; });
    if (settings_.rejects != nullptr && !bad.empty()) {
      std::vector<std::uint8_t> left_out(cells.rows());
      for (const MisfitCell& cell : bad) left_out[cell.row] = 1;
      piece.rows -= static_cast<std::size_t>(std::count(left_out.begin(), left_out.end(), 1));
      read_columns(cells, left_out, memory, piece);
    }
    return piece;
  }

 private:
  std::vector<MisfitCell> read_columns(const Cells& cells, const std::vector<std::uint8_t>& left_out,
                                       const WorkerMemory& memory, ReadPiece& piece) {
    std::vector<MisfitCell> bad;
    std::deque<std::string> texts;
    piece.columns.clear();
    for (std::size_t c = 0; c < request_.columns.size(); ++c) {
      values_of(cells, c, request_.columns[c], request_.place.spelling, left_out, values_, texts, bad);
      if (bad.empty() || !left_out.empty())
        piece.columns.push_back(pack_piece(request_.columns[c].type, values_, *memory.columns[c], memory.number));
    }
    return bad;
  }

  // Cells that do not fit, each as an error; those of one row together where they go to the rejects.
  void add_errors(const Cells& cells, const std::vector<MisfitCell>& bad, ReadPiece& piece) const {
    const MisfitCell* before = nullptr;
    for (const MisfitCell& cell : bad) {
      if (settings_.rejects == nullptr && piece.errors.size() >= most_errors) return;
      const ColumnRequest& column = request_.columns[cell.column];
      const std::string found = quoted_value(text_of(cells.at(cell.row, cell.column)));
      RecordError error;
      error.line = cells.line_of(cell.row);
      if (cell.why == CellMisfit::utf8) {
        error.code = "JR-503";
        error.message = fmt::format("'{}': {} is not valid UTF-8", column.header, found);
        error.suggestion = "write the source with texts in UTF-8";
      } else {
        error.code = "JR-507";
        const std::string details = request_.place.spelling.is_plain() ? "" : ", spelled as the source says";
        error.message = fmt::format("'{}': found {}, expected {} for {}.{}{}", column.header, found,
                                    expectation(column.type, column.part), request_.name, column.name, details);
        error.suggestion = "mend the source, or declare the column with a type that holds what stands in it";
      }
      if (settings_.rejects != nullptr && before != nullptr && before->row == cell.row) {
        piece.errors.back().message += "; " + error.message;
      } else {
        if (settings_.rejects != nullptr) error.record = record_of(cells, cell.row, request_.columns.size());
        piece.errors.push_back(std::move(error));
      }
      before = &cell;
    }
  }

  const TableRequest& request_;
  const ReadSettings& settings_;
  PieceValues values_;
};

// A RecordSource as read_piecewise wants a file.
template <bool rows>
class RecordFile {
 public:
  static constexpr bool counts_rows = rows;
  using Cut = std::unique_ptr<RecordPiece>;

  class Reader {
   public:
    Reader(const TableRequest& request, const ReadSettings& settings) : reader_(request, settings) {}
    ReadPiece read(Cut& cut, const WorkerMemory& memory) {
      const Cells cells = cut->read();
      return reader_.read(cells, memory);
    }

   private:
    CellsReader reader_;
  };

  explicit RecordFile(std::unique_ptr<RecordSource> source) : source_(std::move(source)) {}

  Result<bool> cut(Cut& cut) {
    return base::guarded([&]() -> Result<bool> {
      cut = source_->next();
      return cut != nullptr;
    });
  }
  std::uint64_t bytes_read() const { return source_->bytes_read(); }
  void finish(SourceFile& source) const { source_->finish(source); }

 private:
  std::unique_ptr<RecordSource> source_;
};

template <bool rows>
Result<TableInput> read_all(const RecordKind& kind, const TableRequest& request,
                            const std::vector<std::filesystem::path>& files, const ReadSettings& settings) {
  const auto open = [&](const std::filesystem::path& path) {
    return base::guarded(
        [&]() -> Result<RecordFile<rows>> { return RecordFile<rows>(kind.open(request, path, settings.connections)); });
  };
  return read_piecewise<RecordFile<rows>>(request, files, settings, open);
}

}  // namespace

Result<TableInput> read_records(const RecordKind& kind, const TableRequest& request,
                                const std::vector<std::filesystem::path>& files, const ReadSettings& settings) {
  return base::guarded([&] {
    return kind.counts_rows ? read_all<true>(kind, request, files, settings)
                            : read_all<false>(kind, request, files, settings);
  });
}

Result<void> each_record(const RecordKind& kind, const TableRequest& request, const std::filesystem::path& path,
                         const std::function<void(const Cells& cells, std::size_t row, std::uint64_t line)>& visit) {
  return base::guarded([&]() -> Result<void> {
    const std::unique_ptr<RecordSource> source = kind.open(request, path, nullptr);
    std::uint64_t line = 1;
    while (const std::unique_ptr<RecordPiece> piece = source->next()) {
      const Cells cells = piece->read();
      for (std::size_t row = 0; row < cells.rows(); ++row) visit(cells, row, line + cells.line_of(row));
      line += cells.lines();
    }
    return {};
  });
}

std::vector<Place> locate_records(const RecordKind& kind, const TableRequest& request,
                                  const std::vector<std::uint64_t>& rows) {
  std::vector<Place> places;
  std::uint64_t row = 0;
  for (const auto& path : find_files(request).value_or(std::vector<std::filesystem::path>{})) {
    const auto read = each_record(kind, request, path, [&](const Cells&, std::size_t, std::uint64_t line) {
      if (places.size() < rows.size() && rows[places.size()] == row++)
        places.push_back({path.string(), static_cast<std::uint32_t>(line), 0});
    });
    if (!read) return {};
  }
  return places;
}

}  // namespace juniper::source
