// Rows of sources that can't be read, written out with the reasons: a CSV file of the columns file, line, reasons and
// record.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <utility>

#include "base/output_file.h"
#include "juniper/diagnostics.h"

namespace juniper::source {

// A row that can't be read.
struct Rejected {
  std::string file;
  std::uint64_t line = 0;
  std::string reasons;
};

class Rejects {
 public:
  // Replaces an earlier file of rejected rows alone. Errors: JR-511 (cannot write), JR-011 (something else stands there).
  static Result<Rejects> open(const std::string& path, Overwrite overwrite = Overwrite::own_kind);

  // Writes nothing, and only counts.
  static Rejects counted() { return Rejects(std::nullopt); }

  void add(const std::string& file, std::uint64_t line, std::string_view reasons, std::string_view record);
  // Errors: JR-511, if anything could not be written.
  Result<void> close();

  std::uint64_t count() const { return count_; }
  const Rejected& first() const { return first_; }

 private:
  explicit Rejects(std::optional<base::OutputFile> file) : file_(std::move(file)) {}
  std::optional<base::OutputFile> file_;
  std::uint64_t count_ = 0;
  Rejected first_;
};

}  // namespace juniper::source
