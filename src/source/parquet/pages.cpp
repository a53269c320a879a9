#include "source/parquet/pages.h"

#include <brotli/decode.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <lz4.h>
#include <snappy.h>
#include <sys/stat.h>
#include <unistd.h>
#include <zlib.h>
#include <zstd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <exception>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "source/parquet/bytes.h"

namespace juniper::source::parquet {

namespace {

constexpr std::string_view magic = "PAR1";
constexpr std::string_view encrypted_magic = "PARE";
constexpr std::uint64_t tail_bytes = 8;
// What a page may claim to be once it is decompressed.
constexpr std::int64_t most_page_bytes = std::int64_t{1} << 30;
// What the head of a page may take; statistics in it hold values.
constexpr std::uint64_t head_step = std::uint64_t{1} << 12;
constexpr std::uint64_t most_head_bytes = std::uint64_t{1} << 26;

// LZ4 as Hadoop wrote it: frames of the two sizes, big-endian, then a block. False for anything else.
bool unpack_lz4_frames(std::string_view bytes, std::string& out) {
  std::size_t done = 0;
  while (!bytes.empty()) {
    if (bytes.size() < 8) return false;
    const std::uint32_t whole = __builtin_bswap32(number_at<std::uint32_t>(bytes, 0));
    const std::uint32_t packed = __builtin_bswap32(number_at<std::uint32_t>(bytes, 4));
    bytes.remove_prefix(8);
    if (packed > bytes.size() || whole > out.size() - done) return false;
    const int written =
        LZ4_decompress_safe(bytes.data(), out.data() + done, static_cast<int>(packed), static_cast<int>(whole));
    if (written < 0 || static_cast<std::uint32_t>(written) != whole) return false;
    done += whole;
    bytes.remove_prefix(packed);
  }
  return done == out.size();
}

bool unpack_lz4(std::string_view bytes, std::string& out) {
  const int written =
      LZ4_decompress_safe(bytes.data(), out.data(), static_cast<int>(bytes.size()), static_cast<int>(out.size()));
  return written >= 0 && static_cast<std::size_t>(written) == out.size();
}

bool unpack_gzip(std::string_view bytes, std::string& out) {
  z_stream stream{};
  constexpr int any_head = 15 + 32;  // gzip or zlib, told by the first bytes
  if (inflateInit2(&stream, any_head) != Z_OK) return false;
  stream.next_in = reinterpret_cast<Bytef*>(const_cast<char*>(bytes.data()));
  stream.avail_in = static_cast<uInt>(bytes.size());
  stream.next_out = reinterpret_cast<Bytef*>(out.data());
  stream.avail_out = static_cast<uInt>(out.size());
  const int status = inflate(&stream, Z_FINISH);
  const bool whole = status == Z_STREAM_END && stream.avail_out == 0;
  inflateEnd(&stream);
  return whole;
}

bool unpack_brotli(std::string_view bytes, std::string& out) {
  std::size_t size = out.size();
  return BrotliDecoderDecompress(bytes.size(), reinterpret_cast<const std::uint8_t*>(bytes.data()), &size,
                                 reinterpret_cast<std::uint8_t*>(out.data())) == BROTLI_DECODER_RESULT_SUCCESS &&
         size == out.size();
}

bool unpack_zstd(std::string_view bytes, std::string& out) {
  const std::size_t written = ZSTD_decompress(out.data(), out.size(), bytes.data(), bytes.size());
  return ZSTD_isError(written) == 0 && written == out.size();
}

bool unpack_snappy(std::string_view bytes, std::string& out) {
  std::size_t size = 0;
  return snappy::GetUncompressedLength(bytes.data(), bytes.size(), &size) && size == out.size() &&
         snappy::RawUncompress(bytes.data(), bytes.size(), out.data());
}

}  // namespace

File::File(const std::filesystem::path& path) : name_(path.string()) {
  const auto unreadable = [&] {
    const int error = errno;
    if (descriptor_ >= 0) ::close(descriptor_);
    throw base::Failure(base::error("JR-501", fmt::format("cannot read {}: {}", name_, std::strerror(error))));
  };
  descriptor_ = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK);
  struct stat status {};
  if (descriptor_ < 0 || ::fstat(descriptor_, &status) != 0) unreadable();
  try {
    if (!S_ISREG(status.st_mode)) fail("", "it is not a file with an end");
    size_ = static_cast<std::uint64_t>(status.st_size);
    if (size_ < 2 * magic.size() + tail_bytes - magic.size()) fail("", "it is too short to be a Parquet file");
    const std::string tail = read(size_ - tail_bytes, tail_bytes);
    if (std::string_view(tail).substr(4) == encrypted_magic) {
      throw base::Failure(
          base::error_at("JR-518", Place{name_, 0, 0}, "this Parquet file is encrypted", "decrypt it first"));
    }
    if (std::string_view(tail).substr(4) != magic) fail("", "it does not end as a Parquet file does");
    const auto length = number_at<std::uint32_t>(tail, 0);
    if (length > size_ - tail_bytes - magic.size()) fail("its description", "it is said to be longer than the file");
    try {
      data_ = read_file_data(read(size_ - tail_bytes - length, length));
      leaves_ = leaves_of(data_);
    } catch (const base::Failure&) {
      throw;
    } catch (const std::bad_alloc&) {
      throw;
    } catch (const std::exception& problem) {
      fail("its description", problem.what());
    }
    if (data_.is_encrypted) {
      throw base::Failure(
          base::error_at("JR-518", Place{name_, 0, 0}, "this Parquet file is encrypted", "decrypt it first"));
    }
    for (std::size_t g = 0; g < data_.groups.size(); ++g) {
      if (data_.groups[g].columns.size() != leaves_.size() || data_.groups[g].rows < 0)
        fail(fmt::format("row group {}", g + 1), "it does not have the columns of the schema");
    }
  } catch (...) {
    ::close(descriptor_);
    throw;
  }
}

File::~File() {
  ::close(descriptor_);
}

std::string File::read(std::uint64_t begin, std::uint64_t count) const {
  if (begin > size_ || count > size_ - begin) fail("", "it ends before what its description names");
  std::string bytes(count, '\0');
  for (std::size_t done = 0; done < bytes.size();) {
    const ssize_t got =
        ::pread(descriptor_, bytes.data() + done, bytes.size() - done, static_cast<off_t>(begin + done));
    if (got < 0 && errno == EINTR) continue;
    if (got < 0)
      throw base::Failure(base::error("JR-501", fmt::format("cannot read {}: {}", name_, std::strerror(errno))));
    if (got == 0) fail("", "it has become shorter while it was read");
    done += static_cast<std::size_t>(got);
  }
  return bytes;
}

void File::fail(const std::string& where, const std::string& what) const {
  throw base::Failure(
      base::error_at("JR-517", Place{name_, 0, 0},
                     fmt::format("this Parquet file can't be read: {}{}{}", where, where.empty() ? "" : ": ", what),
                     "write the file again, or read it with another program to see whether it is whole"));
}

Pages::Pages(const File& file, std::size_t group, const Leaf& leaf)
    : file_(file), group_(group), leaf_(leaf), chunk_(file.data().groups[group].columns[leaf.chunk]) {
  if (chunk_.is_encrypted || chunk_.is_elsewhere) {
    throw base::Failure(base::error_at(
        "JR-518", Place{file_.name(), 0, 0},
        fmt::format("{} is {}, which is not read here", where(), chunk_.is_encrypted ? "encrypted" : "in another file"),
        "write the file again without that"));
  }
  std::int64_t begin = chunk_.first_page;
  // Some writers say 0 where there is no dictionary.
  if (chunk_.dictionary_page && *chunk_.dictionary_page > 0) begin = std::min(begin, *chunk_.dictionary_page);
  if (begin < 0 || chunk_.bytes < 0 || chunk_.values < 0) fail("it is said to stand before the file");
  at_ = static_cast<std::uint64_t>(begin);
  if (at_ > file_.size() || static_cast<std::uint64_t>(chunk_.bytes) > file_.size() - at_)
    fail("it is said to stand behind the file's end");
  end_ = at_ + static_cast<std::uint64_t>(chunk_.bytes);
}

std::string Pages::where() const {
  return fmt::format("row group {}, column '{}'{}", group_ + 1, leaf_.name,
                     number_ == 0 ? "" : fmt::format(", page {}", number_));
}

std::string Pages::unpacked(std::string_view bytes, std::size_t size) const {
  std::string out(size, '\0');
  bool whole = false;
  switch (chunk_.codec) {
    case Codec::none:
      out.assign(bytes);
      whole = bytes.size() == size;
      break;
    case Codec::snappy:
      whole = unpack_snappy(bytes, out);
      break;
    case Codec::gzip:
      whole = unpack_gzip(bytes, out);
      break;
    case Codec::brotli:
      whole = unpack_brotli(bytes, out);
      break;
    case Codec::zstd:
      whole = unpack_zstd(bytes, out);
      break;
    case Codec::lz4:
      whole = unpack_lz4(bytes, out);
      break;
    case Codec::lz4_framed:
      whole = unpack_lz4_frames(bytes, out) || unpack_lz4(bytes, out);
      break;
    case Codec::lzo:
      throw base::Failure(base::error_at("JR-518", Place{file_.name(), 0, 0},
                                         fmt::format("{} is compressed with LZO, which is not read here", where()),
                                         "write the file again with zstd or snappy"));
  }
  if (!whole) fail("its compressed bytes are damaged");
  return out;
}

bool Pages::next(Page& page) {
  while (at_ < end_) {
    ++number_;
    // A head is short, but for statistics with long values.
    for (std::uint64_t step = head_step;; step *= 4) {
      const std::uint64_t count = std::min(step, end_ - at_);
      try {
        page.head = read_page_head(file_.read(at_, count));
        break;
      } catch (const base::Failure&) {
        throw;
      } catch (const std::bad_alloc&) {
        throw;
      } catch (const std::exception& problem) {
        if (count == end_ - at_ || step >= most_head_bytes)
          fail(fmt::format("its head can't be read ({})", problem.what()));
      }
    }
    const PageHead& head = page.head;
    at_ += head.head_bytes;
    if (head.bytes < 0 || head.bytes_unpacked < 0 || head.values < 0 || head.definition_bytes < 0 ||
        head.repetition_bytes < 0)
      fail("a size in its head is negative");
    if (head.bytes_unpacked > most_page_bytes) fail("it is said to be larger than a gigabyte");
    if (at_ > end_ || static_cast<std::uint64_t>(head.bytes) > end_ - at_) fail("it goes on behind its column's end");
    const std::string bytes = file_.read(at_, static_cast<std::uint64_t>(head.bytes));
    at_ += bytes.size();
    if (head.type == PageType::index) continue;
    if (head.sum && *head.sum != ::crc32_z(0, reinterpret_cast<const Bytef*>(bytes.data()), bytes.size()))
      fail("its checksum does not match");
    if (head.type != PageType::data_v2) {
      page.bytes = unpacked(bytes, static_cast<std::size_t>(head.bytes_unpacked));
      page.definition.clear();
      return true;
    }
    const std::size_t levels =
        static_cast<std::size_t>(head.definition_bytes) + static_cast<std::size_t>(head.repetition_bytes);
    if (levels > bytes.size() || levels > static_cast<std::size_t>(head.bytes_unpacked))
      fail("its levels are longer than it is");
    page.definition =
        bytes.substr(static_cast<std::size_t>(head.repetition_bytes), static_cast<std::size_t>(head.definition_bytes));
    const std::string_view values = std::string_view(bytes).substr(levels);
    const std::size_t size = static_cast<std::size_t>(head.bytes_unpacked) - levels;
    if (head.is_compressed && chunk_.codec != Codec::none && size != 0) {
      page.bytes = unpacked(values, size);
    } else {
      if (values.size() != size) fail("it is not as long as its head says");
      page.bytes = values;
    }
    return true;
  }
  return false;
}

}  // namespace juniper::source::parquet
