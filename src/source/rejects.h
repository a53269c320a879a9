// Rows of sources that can't be read, written out with the reasons: a CSV file of the columns file, line, reasons and
// record.
#pragma once

#include <cstdint>
#include <cstdio>
#include <memory>
#include <string>
#include <string_view>

#include "juniper/diagnostics.h"

namespace juniper::source {

class Rejects {
 public:
  // Makes the file, or empties it. Errors: JR-511 (cannot write).
  static Result<Rejects> open(const std::string& path);

  void add(const std::string& file, std::uint64_t line, std::string_view reasons, std::string_view record);
  // Errors: JR-511, if anything could not be written.
  Result<void> close();

 private:
  struct CloseFile {
    void operator()(std::FILE* file) const { std::fclose(file); }
  };
  std::string path_;
  std::unique_ptr<std::FILE, CloseFile> file_;
};

}  // namespace juniper::source
