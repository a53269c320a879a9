#include "source/parquet/table.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <memory>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/parallel.h"
#include "source/parquet/convert.h"

namespace juniper::source {

namespace {

using parquet::BadValue;
using parquet::ColumnReader;
using parquet::File;
using parquet::Leaf;
using parquet::Values;

// Files that are open at the same time.
constexpr std::size_t most_open = 64;

// A row group of a file, and what became of it.
struct Group {
  std::size_t file = 0;  // of those that are open
  std::size_t number = 0;
  std::uint64_t first_row = 0;  // of the file
  std::uint64_t rows = 0;
  std::vector<std::vector<PackedPiece>> columns;  // of each requested column
  struct Problem {
    std::uint64_t row = 0;  // of the file
    std::size_t column = 0;
    std::string code;
    std::string message;
    std::string suggestion;
    std::string record;  // for the rejects
  };
  std::vector<std::vector<Problem>> problems;  // of each task on it
  std::uint64_t rejected = 0;
};

// Some columns of a row group, to be read by one thread.
struct Task {
  std::size_t group = 0;
  std::size_t begin = 0;
  std::size_t end = 0;
  std::size_t number = 0;  // of those on its group
};

class TableReader {
 public:
  TableReader(const TableRequest& request, const ReadSettings& settings)
      : request_(request), settings_(settings), threads_(base::thread_count(settings.threads)) {
    for (const ColumnRequest& column : request_.columns) {
      ColumnInput& staged = input_.columns.emplace_back();
      staged.type = column.type;
      for (unsigned t = 0; t < threads_; ++t) staged.memories.push_back(std::make_shared<PieceMemory>());
    }
  }

  // Reads so many files that all of them may be open.
  void read(const std::vector<std::filesystem::path>& paths) {
    files_.clear();
    places_.clear();
    groups_.clear();
    sources_.clear();
    for (const auto& path : paths) open(path);
    if (!errors_.empty()) return;
    std::vector<Task> tasks;
    for (std::size_t g = 0; g < groups_.size(); ++g) {
      // Rows that are left out are left out of all columns: these are read together then.
      const std::size_t step = settings_.rejects != nullptr ? request_.columns.size() : 1;
      for (std::size_t c = 0; c < request_.columns.size(); c += step) {
        tasks.push_back({g, c, std::min(c + step, request_.columns.size()), groups_[g].problems.size()});
        groups_[g].problems.emplace_back();
      }
    }
    std::atomic<std::size_t> next{0};
    const std::size_t count = files_.size() + tasks.size();
    base::run_together(
        static_cast<unsigned>(std::min<std::size_t>(threads_, std::max<std::size_t>(count, 1))),
        [&](unsigned worker) {
          for (std::size_t i = next++; i < count; i = next++) {
            if (i < files_.size()) {
              sources_[i].hash = hash_file(request_, files_[i]->name()).value_or(0);
            } else {
              run(tasks[i - files_.size()], worker);
            }
          }
        },
        [&] { next = count; });
    gather();
  }

  Result<TableInput> finish() {
    if (!errors_.empty()) return tl::unexpected(std::move(errors_));
    return std::move(input_);
  }
  bool has_failed() const { return errors_.size() >= most_errors; }

 private:
  void open(const std::filesystem::path& path) {
    auto file = std::make_unique<File>(path);
    std::vector<std::string> names;
    for (const Leaf& leaf : file->leaves()) names.push_back(leaf.name);
    auto positions = find_columns(request_, names, file->name(), 0);
    if (!positions) {
      errors_.insert(errors_.end(), positions.error().begin(), positions.error().end());
      return;
    }
    for (std::size_t c = 0; c < positions->size(); ++c) {
      const Leaf& leaf = file->leaves()[(*positions)[c]];
      if (leaf.refusal.empty()) continue;
      const auto refused = base::error_at("JR-518", Place{file->name(), 0, 0},
                                          fmt::format("the column '{}' can't be read for {}.{}: {}", leaf.name,
                                                      request_.name, request_.columns[c].name, leaf.refusal),
                                          "leave the column out of the model");
      errors_.insert(errors_.end(), refused.begin(), refused.end());
    }
    std::uint64_t row = 0;
    for (std::size_t g = 0; g < file->data().groups.size(); ++g) {
      Group& group = groups_.emplace_back();
      group.file = files_.size();
      group.number = g;
      group.first_row = row;
      group.rows = static_cast<std::uint64_t>(file->data().groups[g].rows);
      group.columns.resize(request_.columns.size());
      row += group.rows;
    }
    SourceFile source = look_at(request_, path).value_or(SourceFile{request_.name, path.string()});
    source.bytes = file->size();
    source.rows = row;
    sources_.push_back(std::move(source));
    input_.bytes += file->size();
    places_.push_back(std::move(*positions));
    files_.push_back(std::move(file));
  }

  // One column of the task at hand.
  struct Column {
    std::size_t number = 0;
    const Leaf* leaf = nullptr;
    std::unique_ptr<ColumnReader> reader;
    Values values;
    PieceValues piece;
    std::vector<BadValue> bad;
  };

  void run(const Task& task, unsigned worker) {
    Group& group = groups_[task.group];
    std::vector<Column> columns(task.end - task.begin);
    for (std::size_t c = 0; c < columns.size(); ++c) {
      columns[c].number = task.begin + c;
      columns[c].leaf = &files_[group.file]->leaves()[places_[group.file][task.begin + c]];
      columns[c].reader = std::make_unique<ColumnReader>(*files_[group.file], group.number, *columns[c].leaf);
    }
    for (std::uint64_t row = 0; row < group.rows; row += rows_of_piece) {
      const std::size_t count = std::min<std::uint64_t>(rows_of_piece, group.rows - row);
      std::deque<std::string> texts;
      std::vector<std::uint32_t> bad_rows;
      for (Column& column : columns) {
        column.reader->read(count, column.values);
        column.bad.clear();
        convert(column.values, column.leaf->type, request_.columns[column.number], request_.place.spelling.nulls,
                column.piece, texts, column.bad);
        for (const BadValue& bad : column.bad) bad_rows.push_back(bad.row);
      }
      if (!bad_rows.empty()) tell(columns, group, row, group.problems[task.number]);
      if (!bad_rows.empty() && settings_.rejects != nullptr) {
        std::sort(bad_rows.begin(), bad_rows.end());
        bad_rows.erase(std::unique(bad_rows.begin(), bad_rows.end()), bad_rows.end());
        group.rejected += bad_rows.size();
        for (Column& column : columns) leave_out(bad_rows, request_.columns[column.number].type, column.piece);
      }
      for (Column& column : columns) {
        group.columns[column.number].push_back(pack_piece(request_.columns[column.number].type, column.piece,
                                                          *input_.columns[column.number].memories[worker], worker));
      }
      rows_read_ += count * columns.size();
      if (worker == 0 && settings_.progress) {
        // Columns are read one by one: a row counts as read in parts.
        const std::uint64_t all = std::max<std::size_t>(request_.columns.size(), 1);
        settings_.progress(bytes_read_, rows_read_ / all);
      }
      if (group.problems[task.number].size() >= most_errors && settings_.rejects == nullptr) return;
    }
    for (Column& column : columns) {
      column.reader->finish();
      bytes_read_ +=
          static_cast<std::uint64_t>(files_[group.file]->data().groups[group.number].columns[column.leaf->chunk].bytes);
    }
  }

  // What does not fit, as problems of its rows.
  void tell(const std::vector<Column>& columns, const Group& group, std::uint64_t first,
            std::vector<Group::Problem>& problems) const {
    for (const Column& column : columns) {
      const ColumnRequest& wanted = request_.columns[column.number];
      for (const BadValue& bad : column.bad) {
        if (settings_.rejects == nullptr && problems.size() >= most_errors) return;
        Group::Problem problem;
        problem.row = group.first_row + first + bad.row;
        problem.column = column.number;
        if (bad.is_no_text) {
          problem.code = "JR-503";
          problem.message = fmt::format("column '{}': {} is not valid UTF-8", column.leaf->name, bad.found);
          problem.suggestion = "write the file with texts in UTF-8";
        } else {
          problem.code = "JR-507";
          problem.message = fmt::format("column '{}': found {}, expected {} for {}.{}", column.leaf->name, bad.found,
                                        expectation(wanted.type, wanted.part), request_.name, wanted.name);
          problem.suggestion = bad.is_nan
                                   ? "say (nulls \"NaN\") behind the source, if it stands for null there"
                                   : "mend the file, or declare the column with a type that holds what stands in it";
        }
        if (settings_.rejects != nullptr) problem.record = record_of(columns, bad.row);
        problems.push_back(std::move(problem));
      }
    }
  }

  // A row as a line of CSV.
  static std::string record_of(const std::vector<Column>& columns, std::size_t row) {
    std::string record;
    for (const Column& column : columns) {
      const std::string text = parquet::text_of(column.values, column.leaf->type, row);
      if (&column != &columns.front()) record += ',';
      if (text.find_first_of(",\"\r\n") == std::string::npos) {
        record += text;
        continue;
      }
      record += '"';
      for (const char c : text) record += c == '"' ? std::string("\"\"") : std::string(1, c);
      record += '"';
    }
    return record;
  }

  static void leave_out(const std::vector<std::uint32_t>& rows, Type type, PieceValues& piece) {
    const auto from = [&](auto& values) {
      std::size_t kept = 0;
      auto next = rows.begin();
      for (std::size_t row = 0; row < values.size(); ++row) {
        if (next != rows.end() && *next == row) {
          ++next;
        } else {
          values[kept++] = values[row];
        }
      }
      values.resize(kept);
    };
    from(piece.is_null);
    if (type.kind == TypeKind::text) {
      from(piece.text);
    } else if (type.kind == TypeKind::real) {
      from(piece.real);
    } else {
      from(piece.exact);
    }
  }

  // Puts the groups together, in order, behind those that were read before.
  void gather() {
    for (Group& group : groups_) {
      SourceFile& source = sources_[group.file];
      std::vector<Group::Problem> problems;
      for (auto& of_task : group.problems) std::move(of_task.begin(), of_task.end(), std::back_inserter(problems));
      std::stable_sort(problems.begin(), problems.end(), [](const Group::Problem& a, const Group::Problem& b) {
        return std::pair(a.row, a.column) < std::pair(b.row, b.column);
      });
      for (std::size_t p = 0; p < problems.size(); ++p) {
        const Place place{source.path, static_cast<std::uint32_t>(problems[p].row + 1), 0};
        if (settings_.rejects != nullptr) {
          std::string reasons = problems[p].message;
          while (p + 1 < problems.size() && problems[p + 1].row == problems[p].row)
            reasons += "; " + problems[++p].message;
          settings_.rejects->add(source.path, place.line, reasons, problems[p].record);
        } else if (errors_.size() < most_errors) {
          errors_.push_back(base::error_at(problems[p].code, place,
                                           fmt::format("row {}, {}", place.line, problems[p].message),
                                           problems[p].suggestion)[0]);
        }
      }
      source.rejected += group.rejected;
      source.rows -= group.rejected;
      input_.rows += group.rows - group.rejected;
      for (std::size_t c = 0; c < group.columns.size(); ++c)
        std::move(group.columns[c].begin(), group.columns[c].end(), std::back_inserter(input_.columns[c].pieces));
    }
    std::move(sources_.begin(), sources_.end(), std::back_inserter(input_.sources));
  }

  const TableRequest& request_;
  const ReadSettings& settings_;
  unsigned threads_;
  TableInput input_;
  Diagnostics errors_;
  std::atomic<std::uint64_t> rows_read_{0};
  std::atomic<std::uint64_t> bytes_read_{0};
  // Of the files that are open.
  std::vector<std::unique_ptr<File>> files_;
  std::vector<std::vector<std::size_t>> places_;  // of each, the leaves of the requested columns
  std::vector<SourceFile> sources_;
  std::vector<Group> groups_;
};

}  // namespace

Result<TableInput> read_parquet(const TableRequest& request, const std::vector<std::filesystem::path>& files,
                                const ReadSettings& settings) {
  return base::guarded([&]() -> Result<TableInput> {
    TableReader reader(request, settings);
    for (std::size_t begin = 0; begin < files.size() && !reader.has_failed(); begin += most_open) {
      const auto first = files.begin() + static_cast<std::ptrdiff_t>(begin);
      reader.read({first, first + static_cast<std::ptrdiff_t>(std::min(most_open, files.size() - begin))});
    }
    return reader.finish();
  });
}

std::vector<Place> locate_parquet_rows(const TableRequest& request, const std::vector<std::uint64_t>& rows) {
  std::vector<Place> places;
  const auto located = base::guarded([&]() -> Result<void> {
    std::uint64_t before = 0;
    for (const auto& path : find_files(request).value_or(std::vector<std::filesystem::path>{})) {
      const File file(path);
      std::uint64_t here = 0;
      for (const parquet::RowGroup& group : file.data().groups) here += static_cast<std::uint64_t>(group.rows);
      while (places.size() < rows.size() && rows[places.size()] < before + here)
        places.push_back({path.string(), static_cast<std::uint32_t>(rows[places.size()] - before + 1), 0});
      before += here;
    }
    return {};
  });
  return located ? places : std::vector<Place>{};
}

Result<std::vector<ParquetColumn>> parquet_columns(const std::filesystem::path& path) {
  return base::guarded([&]() -> Result<std::vector<ParquetColumn>> {
    const File file(path);
    std::vector<ParquetColumn> columns;
    for (const Leaf& leaf : file.leaves()) columns.push_back({leaf.name, leaf.type, leaf.refusal});
    return columns;
  });
}

}  // namespace juniper::source
