// Files that commands write for others, never over something else: what stands at the place of one is replaced only where
// its first bytes say that the same kind of command wrote it. It is written beside, synced and renamed, so that readers
// see the old one or the new one. What is no plain file (/dev/stdout, a pipe) is written to as it is.
#pragma once

#include <string>
#include <string_view>

#include "base/unfinished.h"
#include "juniper/diagnostics.h"
#include "juniper/overwrite.h"

namespace juniper::base {

// How the first bytes of a file tell that it is one of ours; they may be all of it.
using IsOurs = bool (*)(std::string_view first_bytes);

class OutputFile {
 public:
  // Errors: JR-011 (something else stands there), `code` (it can't be written).
  static Result<OutputFile> open(const std::string& path, IsOurs is_ours, const std::string& code,
                                 Overwrite overwrite = Overwrite::own_kind);
  // The same where nothing may stand yet. Errors: `code`.
  static Result<OutputFile> open_new(const std::string& path, const std::string& code);
  OutputFile(OutputFile&& other) noexcept;
  OutputFile& operator=(OutputFile&& other) noexcept;
  // Without `finish`, all is as it was.
  ~OutputFile();

  void write(std::string_view text);
  // Where it is written beside its place, for a library that writes to a path of its own; nothing is to be written here
  // then. "" for what is no plain file.
  const std::string& path_beside() const { return beside_; }
  // Once. Errors: `code`, if anything could not be written.
  Result<void> finish();

 private:
  OutputFile() = default;
  void create_beside_target();
  void flush();
  Diagnostics cannot_write(int error) const;

  std::string path_;    // as it was given
  std::string target_;  // where its links lead
  std::string beside_;  // "" for what is written to as it is
  std::string code_;
  std::string buffer_;
  Unfinished unfinished_;  // where it is written beside
  bool is_new_ = false;    // nothing may stand at its place
  int descriptor_ = -1;
  int error_ = 0;
};

// Writes a whole text so. Errors: JR-009 (it can't be written), JR-011.
Result<void> write_output(const std::string& path, const std::string& text, IsOurs is_ours,
                          Overwrite overwrite = Overwrite::own_kind);

// Writes a whole text so where nothing stands yet. Errors: `code` (something does, or it can't be written).
Result<void> write_new(const std::string& path, const std::string& text, const std::string& code);

// Errors: JR-011, where something else stands at a path that is about to be replaced; what is no plain file never is.
Result<void> may_replace(const std::string& path, IsOurs is_ours, Overwrite overwrite = Overwrite::own_kind);

}  // namespace juniper::base
