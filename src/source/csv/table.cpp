#include "source/csv/table.h"

#include <fmt/format.h>

#include <algorithm>
#include <deque>

#include "base/diagnostics.h"
#include "source/csv/parse_column.h"
#include "source/csv/records.h"
#include "source/piecewise.h"

namespace juniper::source {

namespace {

// One CSV file, or what is given as one.
class CsvFile {
 public:
  static constexpr bool counts_rows = false;

  // A piece that was cut off and is to be read.
  struct Cut {
    std::string buffer;
    std::string_view text;
    std::uint32_t lines_before = 0;  // of the header, for the first piece
    std::size_t width = 0;
    std::vector<std::size_t> positions;  // of the requested columns
  };

  class Reader;

  CsvFile(const TableRequest& request, CsvPieces pieces) : request_(&request), pieces_(std::move(pieces)) {}

  Result<bool> cut(Cut& cut) {
    const bool begins = width_ == 0;
    const auto text = pieces_.next(cut.buffer, request_->place.delimiter);
    if (!text) return tl::unexpected(text.error());
    if (text->empty() && !begins) return false;
    cut.text = *text;
    cut.lines_before = 0;
    if (begins) {
      if (auto header = take_header(cut); !header) return tl::unexpected(header.error());
    }
    cut.width = width_;
    cut.positions = positions_;
    return true;
  }

  std::uint64_t bytes_read() const { return pieces_.bytes().bytes_read(); }
  void finish(SourceFile& source) const {
    source.hash = pieces_.bytes().hash();
    source.bytes = pieces_.bytes().bytes_read();
  }

 private:
  // Takes the header off the first piece.
  Result<void> take_header(Cut& cut) {
    const std::string& file = pieces_.bytes().name();
    if (cut.text.empty()) {
      return tl::unexpected(
          base::error_at("JR-505", Place{file, 1, 0}, "this file is empty: not even a header stands in it"));
    }
    const char delimiter = request_->place.delimiter;
    const std::size_t lines = skipped_bytes(cut.text, request_->place.skip);
    cut.text.remove_prefix(lines);
    const std::size_t end = first_record_end(cut.text, delimiter);
    CsvRecords header;
    header.read(cut.text.substr(0, end), delimiter, 0);
    if (const auto& bad = header.end())
      return tl::unexpected(base::error_at(bad->code, Place{file, bad->line + 1, 0}, bad->message, bad->suggestion));
    std::vector<std::string> names;
    std::string scratch;
    for (std::size_t i = 0; i < header.width(); ++i) names.emplace_back(header.text(header.field(0, i), scratch));
    auto positions = find_columns(*request_, names, file, request_->place.skip + 1);
    if (!positions) return tl::unexpected(positions.error());
    positions_ = std::move(*positions);
    width_ = header.width();
    cut.lines_before = request_->place.skip + header.lines();
    cut.text.remove_prefix(end);
    return {};
  }

  const TableRequest* request_;
  CsvPieces pieces_;
  std::size_t width_ = 0;               // of its records
  std::vector<std::size_t> positions_;  // of the requested columns in them
};

class CsvFile::Reader {
 public:
  Reader(const TableRequest& request, const ReadSettings& settings) : request_(request), settings_(settings) {}

  ReadPiece read(const Cut& cut, const WorkerMemory& memory) {
    ReadPiece piece;
    piece.lines_before = cut.lines_before;
    records_.read(cut.text, request_.place.delimiter, cut.width);
    piece.lines = records_.lines();
    std::vector<BadCell> bad = read_columns(cut, memory, piece);
    for (const BadRecord& record : records_.bad_records())
      piece.errors.push_back({record.line, record.code, record.message, record.suggestion, std::string(record.text)});
    if (!bad.empty()) {
      std::stable_sort(bad.begin(), bad.end(), [](const BadCell& a, const BadCell& b) { return a.row < b.row; });
      add_errors(cut, bad, piece);
    }
    std::stable_sort(piece.errors.begin(), piece.errors.end(),
                     [](const RecordError& a, const RecordError& b) { return a.line < b.line; });
    if (const auto& end = records_.end())
      piece.errors.push_back({end->line, end->code, end->message, end->suggestion, std::string(end->text), true});
    if (!bad.empty() && settings_.rejects != nullptr) {
      std::vector<std::uint32_t> rows;
      for (const BadCell& cell : bad) {
        if (rows.empty() || rows.back() != cell.row) rows.push_back(cell.row);
      }
      records_.remove(rows);
      read_columns(cut, memory, piece);
    }
    piece.rows = records_.rows();
    return piece;
  }

 private:
  std::vector<BadCell> read_columns(const Cut& cut, const WorkerMemory& memory, ReadPiece& piece) {
    std::vector<BadCell> bad;
    std::deque<std::string> unquoted;
    piece.columns.clear();
    for (std::size_t c = 0; c < request_.columns.size(); ++c) {
      parse_column(records_, cut.positions[c], request_.columns[c].type, request_.columns[c].part,
                   request_.place.spelling, c, values_, unquoted, bad);
      if (bad.empty())
        piece.columns.push_back(pack_piece(request_.columns[c].type, values_, *memory.columns[c], memory.number));
    }
    return bad;
  }

  // Cells that do not fit, each as an error; those of one row together where they go to the rejects.
  void add_errors(const Cut& cut, const std::vector<BadCell>& bad, ReadPiece& piece) const {
    std::string scratch;
    const BadCell* before = nullptr;
    for (const BadCell& cell : bad) {
      if (settings_.rejects == nullptr && piece.errors.size() >= most_errors) return;
      const std::size_t position = cut.positions[cell.column];
      const std::string found = quoted_value(records_.text(records_.field(cell.row, position), scratch));
      const ColumnRequest& column = request_.columns[cell.column];
      RecordError error;
      error.line = records_.line_of(cell.row);
      if (cell.misfit == Misfit::utf8) {
        error.code = "JR-503";
        error.message = fmt::format("field {} ('{}'): {} is not valid UTF-8", position + 1, column.header, found);
        error.suggestion = "save the file as UTF-8";
      } else {
        error.code = "JR-507";
        const std::string options = base::details_text(request_.place);
        error.message =
            fmt::format("field {} ('{}'): found {}, expected {} for {}.{}{}", position + 1, column.header, found,
                        expectation(column.type, column.part), request_.name, column.name,
                        request_.place.spelling.is_plain() ? "" : ", spelled as the source says: " + options);
        error.suggestion = "mend the file, or declare the column with a type that holds what stands in it";
      }
      if (settings_.rejects != nullptr && before != nullptr && before->row == cell.row) {
        piece.errors.back().message += "; " + error.message;
      } else {
        error.record = records_.record(cell.row);
        piece.errors.push_back(std::move(error));
      }
      before = &cell;
    }
  }

  const TableRequest& request_;
  const ReadSettings& settings_;
  CsvRecords records_;
  PieceValues values_;
};

}  // namespace

Result<TableInput> read_csv(const TableRequest& request, const std::vector<std::filesystem::path>& files,
                            const ReadSettings& settings, const OpenBytes& open) {
  return read_piecewise<CsvFile>(request, files, settings, [&](const std::filesystem::path& path) -> Result<CsvFile> {
    auto bytes = open(path);
    if (!bytes) return tl::unexpected(bytes.error());
    return CsvFile(request, CsvPieces(std::move(*bytes)));
  });
}

Result<TableInput> read_csv(const TableRequest& request, const std::vector<std::filesystem::path>& files,
                            const ReadSettings& settings) {
  return read_csv(request, files, settings,
                  [&](const std::filesystem::path& path) { return ByteSource::open(path, request.place.encoding); });
}

std::vector<Place> locate_csv_rows(const TableRequest& request, const std::vector<std::uint64_t>& rows) {
  std::vector<Place> places;
  std::uint64_t row = 0;
  for (const auto& path : find_files(request).value_or(std::vector<std::filesystem::path>{})) {
    auto pieces = CsvPieces::open(path, CsvPieces::usual_bytes, request.place.encoding);
    std::uint64_t line = 1;
    std::string buffer;
    CsvRecords records;
    for (bool header = true; pieces && places.size() < rows.size(); header = false) {
      auto text = pieces->next(buffer, request.place.delimiter);
      if (!text || text->empty()) break;
      if (header) {
        text->remove_prefix(skipped_bytes(*text, request.place.skip));
        line += request.place.skip;
        const std::size_t end = first_record_end(*text, request.place.delimiter);
        records.read(text->substr(0, end), request.place.delimiter, 0);
        line += records.lines();
        text->remove_prefix(end);
      }
      records.read(*text, request.place.delimiter, records.width());
      for (; places.size() < rows.size() && rows[places.size()] < row + records.rows();) {
        const std::size_t at = rows[places.size()] - row;
        places.push_back({path.string(), static_cast<std::uint32_t>(line + records.line_of(at)), 0});
      }
      row += records.rows();
      line += records.lines();
    }
  }
  return places;
}

}  // namespace juniper::source
