// A table from files that are cut into pieces one after the other, which is quick, and whose pieces are read on whichever
// thread is free. The kinds of files say how to cut and how to read; here the pieces come together again in their order,
// and what is wrong with a record gets its place.
#pragma once

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/parallel.h"
#include "source/source.h"

namespace juniper::source {

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
  std::uint32_t lines_before = 0;  // of what stands in front of it and is no record
  std::uint32_t lines = 0;
  std::size_t rows = 0;
  std::vector<PackedPiece> columns;
  std::vector<RecordError> errors;

  bool ends() const { return !errors.empty() && errors.back().is_last; }
};

// Of each column, the memory of the thread at hand, and its number.
struct WorkerMemory {
  std::vector<PieceMemory*> columns;
  unsigned number = 0;
};

// Cuts the files of a table into pieces, one file after the other, and keeps what became of them.
//
// A File is what `open(path)` makes of a path: file.cut(cut) cuts its next piece off into a File::Cut, whose memory is used
// again, and gives false at the end; file.bytes_read() tells how far it is, and file.finish(source) notes its bytes and
// their hash at the end. File::Reader(request, settings) reads cuts on one thread: reader.read(cut, memory) gives a
// ReadPiece. File::counts_rows is true where its places are numbers of rows, not lines.
template <class File>
class Pieces {
 public:
  struct Ticket {
    std::size_t number = 0;
    std::size_t file = 0;
  };

  using Open = std::function<Result<File>(const std::filesystem::path&)>;

  Pieces(const TableRequest& request, const std::vector<std::filesystem::path>& files, const ReadSettings& settings,
         Open open)
      : request_(request), files_(files), settings_(settings), open_(std::move(open)) {}

  // Cuts the next piece off this file or the next one; false when there is no more to read.
  bool cut_next(typename File::Cut& cut, Ticket& ticket) {
    while (!stopped_) {
      if (!current_ && !open_next()) return false;
      const Result<bool> is_cut = current_->cut(cut);
      if (!is_cut) return stop(is_cut.error());
      if (*is_cut) {
        ticket = {next_piece_++, sources_.size() - 1};
        return true;
      }
      SourceFile& source = sources_.back();
      current_->finish(source);
      bytes_ += source.bytes;
      current_.reset();
    }
    return false;
  }

  void stop() { stopped_ = true; }

  // Takes a piece that was read.
  void add(const Ticket& ticket, ReadPiece piece) {
    rows_read_ += piece.rows;
    errors_found_ += piece.errors.size();
    // Pieces are handed out in order, so that all those before this one are read to their end.
    if (piece.ends() || (settings_.rejects == nullptr && errors_found_ >= most_errors)) stop();
    if (read_.size() <= ticket.number) read_.resize(ticket.number + 1);
    read_[ticket.number] = {std::move(piece), ticket.file, true};
    while (settled_ < read_.size() && read_[settled_].is_read) settle(read_[settled_++]);
  }

  std::uint64_t bytes_read() const { return bytes_ + (current_ ? current_->bytes_read() : 0); }
  std::uint64_t rows_read() const { return rows_read_; }

  // Puts the pieces together, in order, behind what `input` has of columns.
  Result<TableInput> gather(TableInput input) {
    for (Numbered& read : read_) {
      if (!read.is_read) continue;
      input.rows += read.piece.rows;
      for (std::size_t c = 0; c < read.piece.columns.size(); ++c)
        input.columns[c].pieces.push_back(std::move(read.piece.columns[c]));
    }
    errors_.insert(errors_.begin(), told_.begin(), told_.end());
    if (!errors_.empty()) return tl::unexpected(std::move(errors_));
    input.bytes = bytes_;
    input.sources = std::move(sources_);
    return input;
  }

 private:
  struct Numbered {
    ReadPiece piece;
    std::size_t file = 0;
    bool is_read = false;
  };

  // Takes in what is wrong with the next piece, once all those before it are read: rejects go to their file at once, and
  // none is held.
  void settle(Numbered& read) {
    if (read.file != settled_file_) line_ = 1;
    settled_file_ = read.file;
    line_ += read.piece.lines_before;
    SourceFile& source = sources_[read.file];
    for (const RecordError& error : read.piece.errors) {
      if (settings_.rejects != nullptr && !error.is_last) {
        settings_.rejects->add(source.path, line_ + error.line, error.message, error.record);
        ++source.rejected;
      } else if (told_.size() < most_errors) {
        const Place place{source.path, static_cast<std::uint32_t>(line_ + error.line), 0};
        const std::string message =
            File::counts_rows ? fmt::format("row {}, {}", place.line, error.message) : error.message;
        told_.push_back(base::error_at(error.code, place, message, error.suggestion)[0]);
      }
    }
    read.piece.errors = {};
    line_ += read.piece.lines;
    source.rows += read.piece.rows;
  }

  bool stop(const Diagnostics& errors) {
    errors_.insert(errors_.end(), errors.begin(), errors.end());
    stop();
    return false;
  }

  bool open_next() {
    if (sources_.size() == files_.size()) return false;
    const auto& path = files_[sources_.size()];
    auto opened = open_(path);
    if (!opened) return stop(opened.error());
    current_ = std::move(*opened);
    sources_.push_back(look_at(request_, path).value_or(SourceFile{request_.name, path.string()}));
    return true;
  }

  const TableRequest& request_;
  const std::vector<std::filesystem::path>& files_;
  const ReadSettings& settings_;
  Open open_;
  std::vector<SourceFile> sources_;  // those that were opened
  std::uint64_t bytes_ = 0;          // of the files that were read to their end
  std::optional<File> current_;
  std::size_t next_piece_ = 0;
  std::vector<Numbered> read_;
  std::size_t settled_ = 0;       // how many of them
  std::size_t settled_file_ = 0;  // the file of the last one
  std::uint64_t line_ = 1;        // of that file, where the next one begins
  Diagnostics told_;
  std::uint64_t rows_read_ = 0;
  std::size_t errors_found_ = 0;
  bool stopped_ = false;
  Diagnostics errors_;
};

// As read_table, of files of one kind.
template <class File>
Result<TableInput> read_piecewise(const TableRequest& request, const std::vector<std::filesystem::path>& files,
                                  const ReadSettings& settings, typename Pieces<File>::Open open) {
  const unsigned threads = base::thread_count(settings.threads);
  TableInput input;
  for (const ColumnRequest& column : request.columns) {
    ColumnInput& staged = input.columns.emplace_back();
    staged.type = column.type;
    for (unsigned t = 0; t < threads; ++t) staged.memories.push_back(std::make_shared<PieceMemory>());
  }
  base::Guarded<Pieces<File>> pieces(request, files, settings, std::move(open));
  const auto work = [&](unsigned worker) {
    typename File::Reader reader(request, settings);
    WorkerMemory memory{{}, worker};
    for (const ColumnInput& column : input.columns) memory.columns.push_back(column.memories[worker].get());
    typename File::Cut cut;
    typename Pieces<File>::Ticket ticket;
    bool more = true;
    while (pieces.change([&](Pieces<File>& all) { more = all.cut_next(cut, ticket); }) && more) {
      ReadPiece piece = reader.read(cut, memory);
      pieces.change([&](Pieces<File>& all) {
        all.add(ticket, std::move(piece));
        if (worker == 0 && settings.progress) settings.progress(all.bytes_read(), all.rows_read());
      });
    }
  };
  base::run_together(threads, work, [&] { pieces.change([](Pieces<File>& all) { all.stop(); }); });
  return pieces.alone().gather(std::move(input));
}

}  // namespace juniper::source
