// The bytes of a source file, decompressed as they are read where the file is gzip or zstd (told by its first bytes,
// not by its name).
#pragma once

#include <cstdint>
#include <filesystem>
#include <functional>
#include <memory>
#include <span>
#include <string>

#include "base/xxhash.h"
#include "juniper/diagnostics.h"

namespace juniper::source {

class ByteSource {
 public:
  // Of text in another encoding, which ICU knows by its name, what is read is UTF-8; without one, UTF-16 that begins with
  // its byte order mark is told. Errors: JR-501 (cannot open).
  static Result<ByteSource> open(const std::filesystem::path& path, const std::string& encoding = "");

  // What is no file: `feed` fills what it is given from its begin and gives the number of bytes, 0 at the end, or throws a
  // base::Failure. Nothing is decompressed.
  using Feed = std::function<std::size_t(std::span<char>)>;
  static ByteSource fed_by(std::string name, Feed feed);

  ByteSource(ByteSource&&) noexcept;
  ByteSource& operator=(ByteSource&&) noexcept;
  ~ByteSource();

  // Fills `out` from its begin and gives the number of bytes; fewer than asked for only at the end. Errors: JR-501
  // (cannot read on), JR-509 (the compressed data is damaged or cut short).
  Result<std::size_t> read(std::span<char> out);

  const std::string& name() const { return name_; }
  // Bytes of the file that were read so far, before decompression, and their XXH3.
  std::uint64_t bytes_read() const { return bytes_read_; }
  std::uint64_t hash() const { return XXH3_64bits_digest(hash_.get()); }

  // How the bytes become text: as they are, decompressed, or from another encoding.
  class Decoder;

 private:
  friend class Decoder;
  struct FreeHash {
    void operator()(XXH3_state_t* state) const { XXH3_freeState(state); }
  };

  ByteSource() = default;
  // Bytes of the file as they are. Throws a base::Failure with JR-501.
  std::size_t read_raw(std::span<char> out);

  std::string name_;
  int descriptor_ = -1;
  Feed feed_;  // instead of a file
  std::uint64_t bytes_read_ = 0;
  std::unique_ptr<XXH3_state_t, FreeHash> hash_;
  std::unique_ptr<Decoder> decoder_;
};

}  // namespace juniper::source
