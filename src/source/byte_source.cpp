#include "source/byte_source.h"

#include <fmt/format.h>
#include <unicode/ucnv.h>
#include <unistd.h>
#include <zlib.h>
#include <zstd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <vector>

#include "base/failure.h"
#include "base/files.h"

namespace juniper::source {

namespace {

constexpr std::size_t raw_bytes = std::size_t{1} << 18;
constexpr std::string_view gzip_magic = "\x1f\x8b";
constexpr std::string_view zstd_magic = "\x28\xb5\x2f\xfd";

}  // namespace

class ByteSource::Decoder {
 public:
  virtual ~Decoder() = default;
  // As ByteSource::read, and throws a base::Failure.
  virtual std::size_t read(ByteSource& source, std::span<char> out) = 0;

 protected:
  // The bytes that are looked at, and more of the file behind them.
  std::string_view look(ByteSource& source) {
    if (begin_ == end_) {
      raw_.resize(raw_bytes);
      begin_ = 0;
      end_ = source.read_raw(raw_);
    }
    return seen_before();
  }
  std::string_view seen_before() const { return {raw_.data() + begin_, end_ - begin_}; }
  static std::size_t read_file(ByteSource& source, std::span<char> out) { return source.read_raw(out); }
  void move_on(std::size_t bytes) { begin_ += bytes; }
  [[noreturn]] static void fail(const ByteSource& source, std::string_view format, const std::string& how) {
    throw base::Failure(base::error_at("JR-509", Place{source.name(), 0, 0},
                                       fmt::format("the {} data of this file {}", format, how),
                                       "compress the file again, or give it as it is"));
  }

 private:
  friend class ByteSource;
  std::vector<char> raw_;
  std::size_t begin_ = 0;
  std::size_t end_ = 0;
};

namespace {

class PlainDecoder : public ByteSource::Decoder {
 public:
  std::size_t read(ByteSource& source, std::span<char> out) override {
    // What was looked at when the file was opened, and then the file itself.
    const std::string_view seen = seen_before();
    if (seen.empty()) return read_file(source, out);
    const std::size_t bytes = std::min(seen.size(), out.size());
    std::copy_n(seen.begin(), bytes, out.begin());
    move_on(bytes);
    return bytes;
  }
};

// Members one behind the other, as RFC 1952 allows.
class GzipDecoder : public ByteSource::Decoder {
 public:
  GzipDecoder() {
    constexpr int largest_window_of_gzip = 15 + 16;
    if (inflateInit2(&stream_, largest_window_of_gzip) != Z_OK) throw std::bad_alloc();
  }
  ~GzipDecoder() override { inflateEnd(&stream_); }
  GzipDecoder(const GzipDecoder&) = delete;
  GzipDecoder& operator=(const GzipDecoder&) = delete;

  std::size_t read(ByteSource& source, std::span<char> out) override {
    stream_.next_out = reinterpret_cast<Bytef*>(out.data());
    stream_.avail_out = static_cast<uInt>(out.size());
    while (stream_.avail_out == out.size()) {
      const std::string_view raw = look(source);
      if (raw.empty()) {
        if (!between_members_) fail(source, "gzip", "ends in the middle");
        return 0;
      }
      between_members_ = false;
      stream_.next_in = reinterpret_cast<Bytef*>(const_cast<char*>(raw.data()));
      stream_.avail_in = static_cast<uInt>(raw.size());
      const int done = inflate(&stream_, Z_NO_FLUSH);
      move_on(raw.size() - stream_.avail_in);
      if (done == Z_MEM_ERROR) throw std::bad_alloc();
      if (done != Z_OK && done != Z_STREAM_END && done != Z_BUF_ERROR) fail(source, "gzip", "is damaged");
      if (done == Z_STREAM_END) {
        between_members_ = true;
        inflateReset(&stream_);
      }
    }
    return out.size() - stream_.avail_out;
  }

 private:
  z_stream stream_{};
  bool between_members_ = false;
};

class ZstdDecoder : public ByteSource::Decoder {
 public:
  ZstdDecoder() : stream_(ZSTD_createDStream(), &ZSTD_freeDStream) {
    if (!stream_) throw std::bad_alloc();
  }

  std::size_t read(ByteSource& source, std::span<char> out) override {
    ZSTD_outBuffer to{out.data(), out.size(), 0};
    while (to.pos == 0) {
      const std::string_view raw = look(source);
      // What the decoder still holds comes out before the end counts.
      if (raw.empty() && drained_) {
        if (in_frame_) fail(source, "zstd", "ends in the middle");
        return 0;
      }
      ZSTD_inBuffer from{raw.data(), raw.size(), 0};
      const std::size_t left = ZSTD_decompressStream(stream_.get(), &to, &from);
      if (ZSTD_isError(left) != 0U) fail(source, "zstd", fmt::format("is damaged ({})", ZSTD_getErrorName(left)));
      move_on(from.pos);
      in_frame_ = left != 0;
      drained_ = to.pos < to.size;
    }
    return to.pos;
  }

 private:
  std::unique_ptr<ZSTD_DStream, std::size_t (*)(ZSTD_DStream*)> stream_;
  bool in_frame_ = false;
  bool drained_ = true;
};

// What another decoder gives, in UTF-8.
class Transcoder : public ByteSource::Decoder {
 public:
  Transcoder(std::unique_ptr<ByteSource::Decoder> from, std::string encoding)
      : from_(std::move(from)), encoding_(std::move(encoding)), input_(raw_bytes), pivot_(raw_bytes) {
    UErrorCode error = U_ZERO_ERROR;
    theirs_.reset(ucnv_open(encoding_.c_str(), &error));
    ours_.reset(ucnv_open("UTF-8", &error));
    if (U_FAILURE(error)) throw std::bad_alloc();
    // What is no character of the encoding is told, not replaced.
    ucnv_setToUCallBack(theirs_.get(), UCNV_TO_U_CALLBACK_STOP, nullptr, nullptr, nullptr, &error);
    pivot_at_ = pivot_end_ = pivot_.data();
  }

  std::size_t read(ByteSource& source, std::span<char> out) override {
    char* target = out.data();
    while (target == out.data() && !done_) {
      if (at_ == size_ && !at_end_) {
        size_ = from_->read(source, input_);
        at_ = 0;
        at_end_ = size_ == 0;
      }
      const char* bytes = input_.data() + at_;
      UErrorCode error = U_ZERO_ERROR;
      ucnv_convertEx(ours_.get(), theirs_.get(), &target, out.data() + out.size(), &bytes, input_.data() + size_,
                     pivot_.data(), &pivot_at_, &pivot_end_, pivot_.data() + pivot_.size(),
                     static_cast<UBool>(is_first_), static_cast<UBool>(at_end_), &error);
      is_first_ = false;
      at_ = static_cast<std::size_t>(bytes - input_.data());
      if (error == U_MEMORY_ALLOCATION_ERROR) throw std::bad_alloc();
      if (U_FAILURE(error) && error != U_BUFFER_OVERFLOW_ERROR) {
        throw base::Failure(
            base::error_at("JR-509", Place{source.name(), 0, 0},
                           fmt::format("the bytes of this file are not all of the encoding {}", encoding_),
                           "name another encoding: (encoding \"windows-1252\")"));
      }
      done_ = at_end_ && error != U_BUFFER_OVERFLOW_ERROR;
    }
    return static_cast<std::size_t>(target - out.data());
  }

 private:
  struct Close {
    void operator()(UConverter* converter) const { ucnv_close(converter); }
  };
  std::unique_ptr<ByteSource::Decoder> from_;
  std::string encoding_;
  std::unique_ptr<UConverter, Close> theirs_;
  std::unique_ptr<UConverter, Close> ours_;
  std::vector<char> input_;
  std::vector<UChar> pivot_;
  UChar* pivot_at_ = nullptr;
  UChar* pivot_end_ = nullptr;
  std::size_t at_ = 0;
  std::size_t size_ = 0;
  bool is_first_ = true;
  bool at_end_ = false;
  bool done_ = false;
};

}  // namespace

ByteSource::ByteSource(ByteSource&& other) noexcept
    : name_(std::move(other.name_)),
      descriptor_(std::exchange(other.descriptor_, -1)),
      feed_(std::move(other.feed_)),
      bytes_read_(other.bytes_read_),
      hash_(std::move(other.hash_)),
      decoder_(std::move(other.decoder_)) {}

ByteSource& ByteSource::operator=(ByteSource&& other) noexcept {
  std::swap(name_, other.name_);
  std::swap(descriptor_, other.descriptor_);
  std::swap(feed_, other.feed_);
  std::swap(bytes_read_, other.bytes_read_);
  std::swap(hash_, other.hash_);
  std::swap(decoder_, other.decoder_);
  return *this;
}

ByteSource::~ByteSource() {
  if (descriptor_ >= 0) ::close(descriptor_);
}

Result<ByteSource> ByteSource::open(const std::filesystem::path& path, const std::string& encoding) {
  return base::guarded([&]() -> Result<ByteSource> {
    ByteSource source;
    source.name_ = path.string();
    const auto opened = base::open_plain_file(path);
    if (!opened) {
      return tl::unexpected(base::error_at("JR-501", Place{source.name_, 0, 0},
                                           fmt::format("cannot open this file: {}", opened.error())));
    }
    source.descriptor_ = *opened;
    source.hash_.reset(XXH3_createState());
    if (!source.hash_) throw std::bad_alloc();
    XXH3_64bits_reset(source.hash_.get());
    auto plain = std::make_unique<PlainDecoder>();
    const std::string_view first = plain->look(source);
    if (first.starts_with(gzip_magic)) source.decoder_ = std::make_unique<GzipDecoder>();
    if (first.starts_with(zstd_magic)) source.decoder_ = std::make_unique<ZstdDecoder>();
    if (source.decoder_) {
      source.decoder_->raw_ = std::move(plain->raw_);
      source.decoder_->begin_ = plain->begin_;
      source.decoder_->end_ = plain->end_;
    } else {
      const bool is_utf16 = first.starts_with("\xFF\xFE") || first.starts_with("\xFE\xFF");
      source.decoder_ = std::move(plain);
      if (is_utf16 && encoding.empty())
        source.decoder_ = std::make_unique<Transcoder>(std::move(source.decoder_), "UTF-16");
    }
    if (!encoding.empty()) source.decoder_ = std::make_unique<Transcoder>(std::move(source.decoder_), encoding);
    return source;
  });
}

ByteSource ByteSource::fed_by(std::string name, Feed feed) {
  ByteSource source;
  source.name_ = std::move(name);
  source.feed_ = std::move(feed);
  source.hash_.reset(XXH3_createState());
  if (!source.hash_) throw std::bad_alloc();
  XXH3_64bits_reset(source.hash_.get());
  source.decoder_ = std::make_unique<PlainDecoder>();
  return source;
}

std::size_t ByteSource::read_raw(std::span<char> out) {
  std::size_t got = 0;
  while (got < out.size()) {
    const ssize_t bytes =
        feed_ ? static_cast<ssize_t>(feed_(out.subspan(got))) : ::read(descriptor_, out.data() + got, out.size() - got);
    if (bytes < 0 && errno == EINTR) continue;
    if (bytes < 0) {
      throw base::Failure(base::error_at("JR-501", Place{name_, 0, 0},
                                         fmt::format("cannot read this file on: {}", std::strerror(errno))));
    }
    if (bytes == 0) break;
    got += static_cast<std::size_t>(bytes);
  }
  XXH3_64bits_update(hash_.get(), out.data(), got);
  bytes_read_ += got;
  return got;
}

Result<std::size_t> ByteSource::read(std::span<char> out) {
  return base::guarded([&]() -> Result<std::size_t> {
    std::size_t got = 0;
    while (got < out.size()) {
      const std::size_t bytes = decoder_->read(*this, out.subspan(got));
      if (bytes == 0) break;
      got += bytes;
    }
    return got;
  });
}

}  // namespace juniper::source
