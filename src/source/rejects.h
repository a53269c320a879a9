// Rows of sources that can't be read, written out with the reasons: a CSV file of the columns file, line, reasons and
// record.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <utility>

#include "base/output_file.h"
#include "juniper/diagnostics.h"

namespace juniper::source {

class Rejects {
 public:
  // Replaces an earlier file of rejected rows alone. Errors: JR-511 (cannot write), JR-011 (something else stands there).
  static Result<Rejects> open(const std::string& path, Overwrite overwrite = Overwrite::own_kind);

  void add(const std::string& file, std::uint64_t line, std::string_view reasons, std::string_view record);
  // Errors: JR-511, if anything could not be written.
  Result<void> close();

 private:
  explicit Rejects(base::OutputFile file) : file_(std::move(file)) {}
  base::OutputFile file_;
};

}  // namespace juniper::source
