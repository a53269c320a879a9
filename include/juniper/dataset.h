// A model with its data: loading sources into the store file, and opening that file.
#pragma once

#include <atomic>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "juniper/diagnostics.h"
#include "juniper/model.h"
#include "juniper/overwrite.h"

namespace juniper::engine {
class LiveAsker;
}  // namespace juniper::engine

namespace juniper::store {
struct Store;
struct Access;
}  // namespace juniper::store

namespace [[gnu::visibility("default")]] juniper {

// What a long call is at. `done` and `total` are bytes of source files, rows, or items; 0 where a step can't be
// measured.
struct Progress {
  std::string step;  // "reading sessions", "computing sessions.energy_charge", "checking"
  std::uint64_t rows = 0;
  std::uint64_t done = 0;
  std::uint64_t total = 0;
  std::string item = {};  // of several that are counted, the one at hand; "" where bytes or rows are
  bool counts_rows = false;
};

// How calls run. The defaults are good for a program that has the machine to itself.
struct Options {
  unsigned threads = 0;  // 0: one for each core
  // What today() gives, in days since 1970-01-01. By default the system's day; for a store that is opened by itself and
  // whose columns read it, the day that it was made on.
  std::optional<std::int64_t> today;
  ReadOptions reading;  // parameters and strictness of the model text
  std::string store;    // the store file; beside the model text, with the ending .jrs, by default
  // Called from the calling thread: of a load a few times a second at most, of a question that takes over a second as
  // often as there is something new.
  std::function<void(const Progress&)> progress;
  // Calls off the questions and loads that are under way, and those asked after, once it is true: they end with JR-707,
  // and a load leaves the earlier store as it was.
  std::shared_ptr<const std::atomic<bool>> cancelled;
  // How many bytes answering a question may add to what this process has allocated; beyond them it ends with JR-708.
  // What other threads allocate at the same time counts as well. 0: no limit.
  std::uint64_t memory = 0;
  // Of the store, the rejected rows and a baseline. A model text and the sources that a store is loaded from are never
  // replaced by it.
  Overwrite overwrite = Overwrite::own_kind;
};

// What became of one calculated column, link or table when it was loaded.
struct ColumnLoad {
  std::string table;
  std::string column;
  std::uint64_t rows = 0;
  std::uint64_t bytes = 0;                // held in the store
  std::int64_t evaluate_nanoseconds = 0;  // 0 for a column of the source
  std::int64_t encode_nanoseconds = 0;
  bool calculated = false;
  // Taken from the earlier store, as it means the same over the same rows; the times are those of then.
  bool carried = false;
};
struct TableLoad {
  std::string table;
  std::uint64_t rows = 0;
  std::uint64_t source_bytes = 0;
  std::uint64_t files = 0;             // of its source
  std::uint64_t files_read = 0;        // of them, now; the rows of the others were there already
  std::uint64_t rejected = 0;          // rows of the source that were left out, as they can't be read
  std::uint64_t unreached = 0;         // … as no link leads to them and the text says `reached from`
  std::uint64_t bytes = 0;             // of its columns in the store
  std::int64_t read_nanoseconds = 0;   // reading and typing the source
  std::int64_t total_nanoseconds = 0;  // with its part of encoding, several columns at a time, and calculated columns
};
struct LinkLoad {
  std::string link;
  std::uint64_t rows = 0;
  std::uint64_t bytes = 0;
  std::int64_t resolve_nanoseconds = 0;
};
// What an order of a table's rows saves that the text declares, or that was found where a smaller one was asked for.
struct OrderLoad {
  std::string table;
  std::string columns;           // that the rows are sorted by, "channel, region"; "" where they stand as in the files
  std::int64_t saved_bytes = 0;  // of codes and links; below 0 where it costs bytes
  std::string file_order;        // the column that tells how the rows stood in the files; "" if none does
};
// A live table, of which no row was read.
struct LiveLoad {
  std::string table;
  std::string place;  // "postgresql service=charging"
};
struct LoadReport {
  std::string store;    // the file
  bool loaded = false;  // false: the store was fresh and nothing was done
  std::vector<TableLoad> tables;
  std::vector<LiveLoad> live;
  std::vector<ColumnLoad> columns;
  std::vector<LinkLoad> links;
  std::vector<OrderLoad> orders;
  std::uint64_t file_bytes = 0;
  std::uint64_t source_bytes = 0;
  std::int64_t total_nanoseconds = 0;
  // As Dataset::warnings, days that the calendar lacks (JR-525), and texts that calculated columns could not read (JR-526);
  // where parts of the model are disabled, what is wrong with them, as errors (Model::disabled_problems).
  Diagnostics warnings;
};

// A model and the store made from its sources. Cheap to copy; may be read from any thread. The store file stays mapped
// as long as any copy lives, and may be replaced meanwhile.
class Dataset {
 public:
  // Opens a .ridge text: the store beside it is used when it is fresh (made from the same tables, columns, calculated
  // columns and links, out of the same source files) and loaded first when it is not. Opens a .jrs store with the
  // model text that it holds, without looking at the sources. Errors: those of Model::read, load and of the store; JR-606
  // for a store that is opened by itself with other parameters, or another day, than its columns were computed with.
  static Result<Dataset> open(const std::string& path, const Options& options = {});

  const Model& model() const { return model_; }
  const Options& options() const { return options_; }
  // What is no error, and worth a look: the model's warnings (Model::warnings), keys that are null (JR-508), and links
  // that are broken with what can't be computed for that (JR-515). With ReadOptions::strict they are errors of `open`.
  Diagnostics warnings() const;

 private:
  friend struct store::Access;
  Dataset(Model model, std::shared_ptr<const store::Store> store, Options options,
          std::shared_ptr<const engine::LiveAsker> live)
      : model_(std::move(model)), store_(std::move(store)), options_(std::move(options)), live_(std::move(live)) {}

  Model model_;
  std::shared_ptr<const store::Store> store_;
  Options options_;
  std::shared_ptr<const engine::LiveAsker> live_;  // null where no table is live
};

enum class Reload : std::uint8_t { when_stale, always };

// In which order the rows of tables are stored: as the earlier store has them; as they stand in the files; or in one in
// which they take fewer bytes, which is looked for. Answers do not depend on it but for the last digits of sums of
// reals. A table is sorted anew only if its ties are settled without its rows' order (it has a key), or a column
// ascends with the rows of the files and so tells their order.
enum class RowOrder : std::uint8_t { as_before, as_in_files, smallest };
struct LoadSettings {
  Reload reload = Reload::when_stale;
  // A CSV file for the rows that can't be read, with the reasons (file, line, reasons, record); "": they are errors.
  std::string rejects;
  RowOrder order = RowOrder::as_before;
};

// Loads the sources of a model text into its store file: reads, types and encodes every table, resolves links and
// computes calculated columns in the order of their dependencies. A link whose one side holds a key twice is broken: it
// and what is computed across it are left out with a warning (JR-515), and what needs them is refused (JR-706). A fresh
// store is left as it is, and of a stale one the rows of files that have not changed are taken over, unless everything
// is to be loaded; what stands on servers is always read again. After an error the earlier store file is as it was. Errors: JR-5xx for the data (with file and
// line), JR-6xx for the store, JR-7xx for what a calculated column can't hold.
Result<LoadReport> load(const std::string& path, const Options& options = {}, const LoadSettings& settings = {});

// What `verify` has read.
struct Verification {
  std::string store;
  std::uint64_t columns = 0;
  std::uint64_t links = 0;
  std::uint64_t bytes = 0;
};

// Reads all of a store, given as itself or by its model text, and compares every checksum, what it says of its columns
// with their rows, and keys and links with what they promise. Calculated columns are not computed anew. Errors: those of
// opening it, and JR-605 at the first part that is damaged.
Result<Verification> verify(const std::string& path, const Options& options = {});

// The model of a .ridge text, or that of a .jrs store, without its data. Errors: those of Model::read and of the store.
Result<Model> read_model(const std::string& path, const Options& options = {});

// The file in which `load` keeps the store of a model text.
std::string store_path(const std::string& model_path, const Options& options);

}  // namespace juniper
