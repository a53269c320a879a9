#include "source/csv/table.h"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <fnmatch.h>
#include <sys/stat.h>

#include <algorithm>
#include <deque>
#include <map>

#include "base/diagnostics.h"
#include "base/files.h"
#include "base/parallel.h"
#include "base/shown_text.h"
#include "base/xxhash.h"
#include "source/csv/parse_column.h"
#include "source/csv/records.h"

namespace juniper::source {

namespace {

// What is wrong with a record.
struct RecordError {
  std::uint32_t line = 0;  // from 0, in its piece
  std::string code;
  std::string message;
  std::string suggestion;
  std::string record;    // its text, for the rejects
  bool is_last = false;  // nothing can be read behind it
};

// One piece of a file, read and packed.
struct ReadPiece {
  std::size_t file = 0;
  std::uint32_t lines_before = 0;  // of the file's header, for its first piece
  std::uint32_t lines = 0;
  std::size_t rows = 0;
  std::vector<PackedPiece> columns;
  std::vector<RecordError> errors;
  bool is_read = false;
};

// A piece that was cut off and is to be read.
struct Cut {
  std::size_t number = 0;
  std::size_t file = 0;
  std::uint32_t lines_before = 0;
  std::string_view text;
  std::size_t width = 0;
  std::vector<std::size_t> positions;  // of the requested columns
};

// Cuts the files of a table into pieces, one file after the other, and keeps what became of them.
class Pieces {
 public:
  Pieces(const TableRequest& request, const std::vector<std::filesystem::path>& files, const ReadSettings& settings)
      : request_(request), files_(files), settings_(settings) {}

  // Cuts the next piece off this file or the next one; false when there is no more to read.
  bool cut_next(std::string& buffer, Cut& cut) {
    while (!stopped_) {
      const bool begins = !current_;
      if (begins && !open_next()) return false;
      const auto text = current_->next(buffer, request_.place.delimiter);
      if (!text) return stop(text.error());
      if (text->empty() && !begins) {
        close_current();
        continue;
      }
      cut = {next_piece_++, sources_.size() - 1, 0, *text, width_, positions_};
      return !begins || read_header(cut);
    }
    return false;
  }

  void stop() { stopped_ = true; }

  // Takes a piece that was read; `ends` where nothing can be read behind it.
  void add(std::size_t number, ReadPiece piece, bool ends) {
    rows_read_ += piece.rows;
    errors_found_ += piece.errors.size();
    // Pieces are handed out in order, so that all those before this one are read to their end.
    if (ends || (settings_.rejects == nullptr && errors_found_ >= most_errors)) stop();
    if (read_.size() <= number) read_.resize(number + 1);
    read_[number] = std::move(piece);
    read_[number].is_read = true;
    while (settled_ < read_.size() && read_[settled_].is_read) settle(read_[settled_++]);
  }

  std::uint64_t bytes_read() const { return bytes_ + (current_ ? current_->bytes().bytes_read() : 0); }
  std::uint64_t rows_read() const { return rows_read_; }

  // Puts the pieces together, in order, behind what `input` has of columns.
  Result<TableInput> gather(TableInput input) {
    for (ReadPiece& piece : read_) {
      if (!piece.is_read) continue;
      input.rows += piece.rows;
      for (std::size_t c = 0; c < piece.columns.size(); ++c)
        input.columns[c].pieces.push_back(std::move(piece.columns[c]));
    }
    errors_.insert(errors_.begin(), told_.begin(), told_.end());
    if (!errors_.empty()) return tl::unexpected(std::move(errors_));
    input.bytes = bytes_;
    input.sources = std::move(sources_);
    return input;
  }

 private:
  // Takes in what is wrong with the next piece, once all those before it are read: rejects go to their file at once, and
  // none is held.
  void settle(ReadPiece& piece) {
    if (piece.file != settled_file_) line_ = 1;
    settled_file_ = piece.file;
    line_ += piece.lines_before;
    SourceFile& source = sources_[piece.file];
    for (const RecordError& error : piece.errors) {
      if (settings_.rejects != nullptr && !error.is_last) {
        settings_.rejects->add(source.path, line_ + error.line, error.message, error.record);
        ++source.rejected;
      } else if (told_.size() < most_errors) {
        const Place place{source.path, static_cast<std::uint32_t>(line_ + error.line), 0};
        told_.push_back(base::error_at(error.code, place, error.message, error.suggestion)[0]);
      }
    }
    piece.errors = {};
    line_ += piece.lines;
    source.rows += piece.rows;
  }

  bool stop(const Diagnostics& errors) {
    errors_.insert(errors_.end(), errors.begin(), errors.end());
    stop();
    return false;
  }

  bool open_next() {
    if (sources_.size() == files_.size()) return false;
    const auto& path = files_[sources_.size()];
    auto opened = CsvPieces::open(path);
    if (!opened) return stop(opened.error());
    current_ = std::move(*opened);
    sources_.push_back(look_at(request_.name, path).value_or(SourceFile{request_.name, path.string()}));
    return true;
  }

  void close_current() {
    SourceFile& source = sources_.back();
    source.hash = current_->bytes().hash();
    source.bytes = current_->bytes().bytes_read();
    bytes_ += source.bytes;
    current_.reset();
  }

  // Takes the header off a file's first piece.
  bool read_header(Cut& cut) {
    const std::string& file = current_->bytes().name();
    if (cut.text.empty()) {
      return stop(base::error_at("JR-505", Place{file, 1, 0}, "this file is empty: not even a header stands in it"));
    }
    const std::size_t end = first_record_end(cut.text, request_.place.delimiter);
    CsvRecords header;
    header.read(cut.text.substr(0, end), request_.place.delimiter, 0);
    if (const auto& bad = header.end())
      return stop(base::error_at(bad->code, Place{file, bad->line + 1, 0}, bad->message, bad->suggestion));
    std::vector<std::string> names;
    std::string scratch;
    for (std::size_t i = 0; i < header.width(); ++i) names.emplace_back(header.text(header.field(0, i), scratch));
    auto positions = find_columns(request_, names, file, 1);
    if (!positions) return stop(positions.error());
    positions_ = std::move(*positions);
    width_ = header.width();
    cut.lines_before = header.lines();
    cut.text.remove_prefix(end);
    cut.width = width_;
    cut.positions = positions_;
    return true;
  }

  const TableRequest& request_;
  const std::vector<std::filesystem::path>& files_;
  const ReadSettings& settings_;
  std::vector<SourceFile> sources_;  // those that were opened
  std::uint64_t bytes_ = 0;          // of the files that were read to their end
  std::optional<CsvPieces> current_;
  std::size_t width_ = 0;               // of the records of the current file
  std::vector<std::size_t> positions_;  // of the requested columns in them
  std::size_t next_piece_ = 0;
  std::vector<ReadPiece> read_;
  std::size_t settled_ = 0;       // how many of them
  std::size_t settled_file_ = 0;  // the file of the last one
  std::uint64_t line_ = 1;        // of that file, where the next one begins
  Diagnostics told_;
  std::uint64_t rows_read_ = 0;
  std::size_t errors_found_ = 0;
  bool stopped_ = false;
  Diagnostics errors_;
};

class TableReader {
 public:
  TableReader(const TableRequest& request, const std::vector<std::filesystem::path>& files,
              const ReadSettings& settings)
      : request_(request), settings_(settings), pieces_(request, files, settings) {}

  Result<TableInput> read() {
    const unsigned threads = base::thread_count(settings_.threads);
    TableInput input;
    for (const ColumnRequest& column : request_.columns) {
      ColumnInput& staged = input.columns.emplace_back();
      staged.type = column.type;
      for (unsigned t = 0; t < threads; ++t) staged.memories.push_back(std::make_shared<PieceMemory>());
      memories_.push_back(staged.memories);
    }
    base::run_together(
        threads, [&](unsigned worker) { work(worker); },
        [&] { pieces_.change([](Pieces& pieces) { pieces.stop(); }); });
    return pieces_.alone().gather(std::move(input));
  }

 private:
  void work(unsigned worker) {
    std::string buffer;
    CsvRecords records;
    PieceValues values;
    Cut cut;
    bool more = true;
    while (pieces_.change([&](Pieces& pieces) { more = pieces.cut_next(buffer, cut); }) && more) {
      ReadPiece piece = read_piece(cut, records, values, worker);
      pieces_.change([&](Pieces& pieces) {
        pieces.add(cut.number, std::move(piece), records.end().has_value());
        if (worker == 0 && settings_.progress) settings_.progress(pieces.bytes_read(), pieces.rows_read());
      });
    }
  }

  ReadPiece read_piece(const Cut& cut, CsvRecords& records, PieceValues& values, unsigned worker) const {
    ReadPiece piece;
    piece.file = cut.file;
    piece.lines_before = cut.lines_before;
    records.read(cut.text, request_.place.delimiter, cut.width);
    piece.lines = records.lines();
    std::vector<BadCell> bad = read_columns(cut, records, values, worker, piece);
    for (const BadRecord& record : records.bad_records())
      piece.errors.push_back({record.line, record.code, record.message, record.suggestion, std::string(record.text)});
    if (!bad.empty()) {
      std::stable_sort(bad.begin(), bad.end(), [](const BadCell& a, const BadCell& b) { return a.row < b.row; });
      add_errors(cut, records, bad, piece);
    }
    std::stable_sort(piece.errors.begin(), piece.errors.end(),
                     [](const RecordError& a, const RecordError& b) { return a.line < b.line; });
    if (const auto& end = records.end())
      piece.errors.push_back({end->line, end->code, end->message, end->suggestion, std::string(end->text), true});
    if (!bad.empty() && settings_.rejects != nullptr) {
      std::vector<std::uint32_t> rows;
      for (const BadCell& cell : bad) {
        if (rows.empty() || rows.back() != cell.row) rows.push_back(cell.row);
      }
      records.remove(rows);
      read_columns(cut, records, values, worker, piece);
    }
    piece.rows = records.rows();
    return piece;
  }

  std::vector<BadCell> read_columns(const Cut& cut, const CsvRecords& records, PieceValues& values, unsigned worker,
                                    ReadPiece& piece) const {
    std::vector<BadCell> bad;
    std::deque<std::string> unquoted;
    piece.columns.clear();
    for (std::size_t c = 0; c < request_.columns.size(); ++c) {
      parse_column(records, cut.positions[c], request_.columns[c].type, request_.columns[c].part,
                   request_.place.spelling, c, values, unquoted, bad);
      // Each worker has memory of its own.
      if (bad.empty())
        piece.columns.push_back(pack_piece(request_.columns[c].type, values, *memories_[c][worker], worker));
    }
    return bad;
  }

  // Cells that do not fit, each as an error; those of one row together where they go to the rejects.
  void add_errors(const Cut& cut, const CsvRecords& records, const std::vector<BadCell>& bad, ReadPiece& piece) const {
    std::string scratch;
    const BadCell* before = nullptr;
    for (const BadCell& cell : bad) {
      if (settings_.rejects == nullptr && piece.errors.size() >= most_errors) return;
      const std::size_t position = cut.positions[cell.column];
      const std::string found = quoted_value(records.text(records.field(cell.row, position), scratch));
      const ColumnRequest& column = request_.columns[cell.column];
      RecordError error;
      error.line = records.line_of(cell.row);
      if (cell.misfit == Misfit::utf8) {
        error.code = "JR-503";
        error.message = fmt::format("field {} ('{}'): {} is not valid UTF-8", position + 1, column.header, found);
        error.suggestion = "save the file as UTF-8";
      } else {
        error.code = "JR-507";
        const std::string options = base::options_text(request_.place);
        error.message =
            fmt::format("field {} ('{}'): found {}, expected {} for {}.{}{}", position + 1, column.header, found,
                        expectation(column.type, column.part), request_.name, column.name,
                        request_.place.spelling.is_plain() ? "" : ", spelled as the source says: " + options);
        error.suggestion = "mend the file, or declare the column with a type that holds what stands in it";
      }
      if (settings_.rejects != nullptr && before != nullptr && before->row == cell.row) {
        piece.errors.back().message += "; " + error.message;
      } else {
        error.record = records.record(cell.row);
        piece.errors.push_back(std::move(error));
      }
      before = &cell;
    }
  }

  const TableRequest& request_;
  const ReadSettings& settings_;
  std::vector<std::vector<std::shared_ptr<PieceMemory>>> memories_;  // of each column, one for each worker
  base::Guarded<Pieces> pieces_;
};

}  // namespace

Result<TableInput> read_csv(const TableRequest& request, const std::vector<std::filesystem::path>& files,
                            const ReadSettings& settings) {
  return TableReader(request, files, settings).read();
}

std::vector<Place> locate_csv_rows(const TableRequest& request, const std::vector<std::uint64_t>& rows) {
  std::vector<Place> places;
  std::uint64_t row = 0;
  for (const auto& path : find_files(request).value_or(std::vector<std::filesystem::path>{})) {
    auto pieces = CsvPieces::open(path);
    std::uint64_t line = 1;
    std::string buffer;
    CsvRecords records;
    for (bool header = true; pieces && places.size() < rows.size(); header = false) {
      auto text = pieces->next(buffer, request.place.delimiter);
      if (!text || text->empty()) break;
      if (header) {
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
