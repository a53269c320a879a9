// A Parquet file as bytes: its description at the end, and the pages of a column chunk, decompressed.
#pragma once

#include <atomic>
#include <cstdint>
#include <filesystem>
#include <string>
#include <vector>

#include "source/parquet/schema.h"

namespace juniper::source::parquet {

// An open file. Read with pread alone, by several threads at once, so that one that is shortened meanwhile is an error.
class File {
 public:
  // Throws a base::Failure: JR-501 (can't be read), JR-517 (not a Parquet file, or damaged), JR-518 (of a kind that is not
  // read here: encrypted).
  explicit File(const std::filesystem::path& path);
  ~File();
  File(const File&) = delete;
  File& operator=(const File&) = delete;

  const std::string& name() const { return name_; }
  std::uint64_t size() const { return size_; }
  const FileData& data() const { return data_; }
  const std::vector<Leaf>& leaves() const { return leaves_; }
  // Bytes from `begin` on; throws JR-501 or JR-517 (the file ends before).
  std::string read(std::uint64_t begin, std::uint64_t count) const;

  // Throws JR-517 with what is wrong, and where.
  [[noreturn]] void fail(const std::string& where, const std::string& what) const;

 private:
  std::string name_;
  int descriptor_ = -1;
  std::uint64_t size_ = 0;
  FileData data_;
  std::vector<Leaf> leaves_;
};

// A page with its bytes.
struct Page {
  PageHead head;
  std::string bytes;       // decompressed; of version 2, without the levels
  std::string definition;  // of version 2: the definition levels
};

// The pages of a column chunk, one after the other.
class Pages {
 public:
  // Throws JR-517 for a chunk that can't stand in the file.
  Pages(const File& file, std::size_t group, const Leaf& leaf);

  // The next page of values or the dictionary; false at the end. Throws as File, and JR-518 for a compression that is not
  // read here.
  bool next(Page& page);
  // "row group 2, column 'site.city', page 3", for messages.
  std::string where() const;
  [[noreturn]] void fail(const std::string& what) const { file_.fail(where(), what); }

 private:
  std::string unpacked(std::string_view bytes, std::size_t size) const;

  const File& file_;
  std::size_t group_;
  const Leaf& leaf_;
  const ColumnChunk& chunk_;
  std::uint64_t at_ = 0;
  std::uint64_t end_ = 0;
  std::size_t number_ = 0;  // of the page, from 1
};

}  // namespace juniper::source::parquet
