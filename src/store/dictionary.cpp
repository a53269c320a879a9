#include "store/dictionary.h"

#include <fmt/format.h>
#include <utf8.h>
#include <zstd.h>

#include <algorithm>
#include <array>
#include <bit>
#include <functional>
#include <limits>
#include <mutex>

namespace juniper::store {

namespace {

constexpr std::size_t block_texts = 1024;
constexpr std::uint64_t sign_bit = std::uint64_t{1} << 63;
enum class TextEncoding : std::uint8_t { shared, zstd };

// Doubles in their order as unsigned numbers, and back: positive ones behind the negative ones, which are turned round.
std::uint64_t ordered(double value) {
  const auto bits = std::bit_cast<std::uint64_t>(value);
  return (bits & sign_bit) != 0 ? ~bits : bits | sign_bit;
}
double from_ordered(std::uint64_t bits) {
  return std::bit_cast<double>((bits & sign_bit) != 0 ? bits & ~sign_bit : ~bits);
}

}  // namespace

// --- numbers --------------------------------------------------------------------------------------------------------

struct NumberDictionary::Unpacked {
  std::once_flag once;
  std::vector<std::uint64_t> values;
  std::atomic<const std::uint64_t*> ready{nullptr};
};

NumberDictionary::NumberDictionary(Codes codes, std::uint64_t smallest)
    : codes_(std::move(codes)), smallest_(smallest), unpacked_(std::make_shared<Unpacked>()) {}

NumberDictionary::NumberDictionary(Codes codes, std::uint64_t smallest, std::uint64_t distance)
    : NumberDictionary(std::move(codes), smallest) {
  distance_ = distance;
}

std::uint64_t NumberDictionary::place_of(const Value& value) {
  return value.kind() == Value::Kind::real ? ordered(value.real()) : static_cast<std::uint64_t>(value.exact());
}

NumberDictionary NumberDictionary::encode(std::span<const std::int64_t> sorted) {
  const auto smallest = sorted.empty() ? 0 : static_cast<std::uint64_t>(sorted[0]);
  std::vector<std::uint64_t> above;
  above.reserve(sorted.size());
  for (const std::int64_t value : sorted) above.push_back(static_cast<std::uint64_t>(value) - smallest);
  return {Codes::encode(above), smallest};
}

NumberDictionary NumberDictionary::encode(std::span<const double> sorted) {
  const auto smallest = sorted.empty() ? 0 : ordered(sorted[0]);
  std::vector<std::uint64_t> above;
  above.reserve(sorted.size());
  for (const double value : sorted) above.push_back(ordered(value) - smallest);
  return {Codes::encode(above), smallest};
}

const std::uint64_t* NumberDictionary::unpacked() const {
  if (const auto* const ready = unpacked_->ready.load(std::memory_order_acquire)) return ready;
  std::call_once(unpacked_->once, [&] {
    unpacked_->values = codes_.decoded();
    const std::vector<std::uint64_t>& above = unpacked_->values;
    // Of the file's word nothing else is taken: ranges are proved from the smallest and the largest value.
    const bool in_order = !distance_ || above.empty() ||
                          (above.front() == 0 && above.back() == *distance_ &&
                           std::adjacent_find(above.begin(), above.end(), std::greater_equal<>()) == above.end());
    if (!in_order) {
      unpacked_->values.clear();
      codes_.fail("its values are not in order");
    }
    for (std::uint64_t& value : unpacked_->values) value += smallest_;
    unpacked_->ready.store(unpacked_->values.data(), std::memory_order_release);
  });
  return unpacked_->ready.load(std::memory_order_acquire);
}

double NumberDictionary::real(std::uint64_t code) const {
  return from_ordered(unpacked()[code]);
}

// --- texts ----------------------------------------------------------------------------------------------------------

namespace {

void append_varint(std::string& out, std::size_t number) {
  for (; number >= 128; number >>= 7) out += static_cast<char>((number & 127U) | 128U);
  out += static_cast<char>(number);
}

// Moves `at` behind the varint; nothing if it does not end before `end` or is too large for any text.
std::optional<std::size_t> read_varint(const char*& at, const char* end) {
  std::size_t number = 0;
  for (unsigned shift = 0; at != end && shift < 35; shift += 7) {
    const auto byte = static_cast<unsigned char>(*at++);
    number |= std::size_t{byte & 127U} << shift;
    if (byte < 128) return number;
  }
  return std::nullopt;
}

}  // namespace

namespace {

// Most texts are ASCII, which is seen at a glance.
bool is_utf8(const std::string& text) {
  unsigned char bits = 0;
  for (const char c : text) bits |= static_cast<unsigned char>(c);
  return bits < 128 || utf8::is_valid(text);
}

}  // namespace

// The texts of a block, one behind the other.
struct TextDictionary::Block {
  std::string texts;
  std::array<std::size_t, block_texts + 1> begins{};
};

struct TextDictionary::Unpacked {
  explicit Unpacked(std::size_t count) : blocks(std::make_unique<std::atomic<const Block*>[]>(count)), size(count) {}
  ~Unpacked() {
    for (std::size_t b = 0; b < size; ++b) delete blocks[b].load();
  }
  Unpacked(const Unpacked&) = delete;
  Unpacked& operator=(const Unpacked&) = delete;
  std::unique_ptr<std::atomic<const Block*>[]> blocks;
  std::size_t size;
};

TextDictionary::TextDictionary(Bytes bytes, std::uint64_t count, std::shared_ptr<const Checks> checks)
    : bytes_(std::move(bytes)),
      count_(count),
      checks_(std::move(checks)),
      unpacked_(std::make_shared<Unpacked>(blocks())) {}

std::size_t TextDictionary::blocks() const {
  return (count_ + block_texts - 1) / block_texts;
}

std::size_t TextDictionary::texts_in(std::size_t block) const {
  return std::min(block_texts, count_ - block * block_texts);
}

void TextDictionary::Encoder::add(std::string_view text, std::size_t shared) {
  if (count_ % block_texts == 0) shared = 0;
  append_varint(lengths_, shared);
  append_varint(lengths_, text.size() - shared);
  rests_.append(text.data() + shared, text.size() - shared);
  if (++count_ % block_texts == 0) end_block();
}

void TextDictionary::Encoder::end_block() {
  // The lowest level of zstd: higher ones are several times as slow and gain little on what shares its prefixes.
  constexpr int level = 1;
  lengths_ += rests_;
  const std::string& plain = lengths_;
  compressed_.resize(ZSTD_compressBound(plain.size()));
  const std::size_t bytes = ZSTD_compress(compressed_.data(), compressed_.size(), plain.data(), plain.size(), level);
  const bool smaller = ZSTD_isError(bytes) == 0U && bytes < plain.size();
  const auto block = smaller ? std::span<const char>(compressed_).first(bytes) : std::span<const char>(plain);
  Entry entry{};
  entry.offset = stored_.size();
  entry.bytes = static_cast<std::uint32_t>(block.size());
  entry.unpacked = static_cast<std::uint32_t>(plain.size());
  entry.hash = short_hash(std::as_bytes(block));
  entry.encoding = static_cast<std::uint8_t>(smaller ? TextEncoding::zstd : TextEncoding::shared);
  directory_.push_back(entry);
  append(stored_, block);
  stored_.resize((stored_.size() + 7) / 8 * 8);
  lengths_.clear();
  rests_.clear();
}

TextDictionary TextDictionary::Encoder::finish() {
  if (count_ % block_texts != 0) end_block();
  std::vector<std::byte> bytes;
  bytes.reserve(directory_.size() * sizeof(Entry) + stored_.size());
  append(bytes, std::span<const Entry>(directory_));
  append(bytes, std::span<const std::byte>(stored_));
  return {Bytes(std::move(bytes)), count_, nullptr};
}

std::optional<TextDictionary> TextDictionary::view(Bytes bytes, std::uint64_t count, std::uint64_t directory_hash,
                                                   std::string what) {
  const std::uint64_t needed = count / block_texts + (count % block_texts == 0 ? 0 : 1);
  if (bytes.size() / sizeof(Entry) < needed) return std::nullopt;
  return TextDictionary(std::move(bytes), count,
                        std::make_shared<const Checks>(std::move(what), directory_hash, needed));
}

void TextDictionary::fail(std::size_t number, const std::string& how) const {
  const std::size_t first = number * block_texts;
  const std::string where = fmt::format("texts {} to {} {}", first + 1, first + texts_in(number), how);
  if (checks_) checks_->fail(where);
  std::terminate();  // encoded here: a fault of this program
}

std::unique_ptr<const TextDictionary::Block> TextDictionary::unpack(std::size_t number) const {
  if (checks_) checks_->check_directory(directory());
  const Entry& entry = bytes_.as<Entry>(number * sizeof(Entry), 1)[0];
  const auto area = bytes_.view().subspan(blocks() * sizeof(Entry));
  if (entry.offset > area.size() || entry.bytes > area.size() - entry.offset) fail(number, "lie outside of the file");
  const auto stored = area.subspan(entry.offset, entry.bytes);
  if (checks_ && short_hash(stored) != entry.hash) fail(number, "have another checksum");
  std::string unpacked;
  std::string_view plain(reinterpret_cast<const char*>(stored.data()), stored.size());
  if (entry.encoding == static_cast<std::uint8_t>(TextEncoding::zstd)) {
    const unsigned long long size = ZSTD_getFrameContentSize(stored.data(), stored.size());
    if (size != entry.unpacked) fail(number, "do not hold together");
    unpacked.resize(entry.unpacked);
    if (ZSTD_decompress(unpacked.data(), unpacked.size(), stored.data(), stored.size()) != unpacked.size())
      fail(number, "cannot be decompressed");
    plain = unpacked;
  }
  const auto must = [&](bool good) {
    if (!good) fail(number, "do not hold together");
  };
  must(entry.encoding <= static_cast<std::uint8_t>(TextEncoding::zstd));
  const std::size_t count = texts_in(number);
  std::array<std::pair<std::size_t, std::size_t>, block_texts> lengths;
  const char* at = plain.data();
  const char* const end = plain.data() + plain.size();
  std::size_t bytes = 0;
  std::size_t rests = 0;  // of them that no text shares: no more than there are
  for (std::size_t i = 0; i < count; ++i) {
    const auto shared = read_varint(at, end);
    const auto rest = shared ? read_varint(at, end) : std::nullopt;
    must(rest.has_value());
    must(*shared <= (i == 0 ? 0 : lengths[i - 1].first + lengths[i - 1].second) && *rest <= plain.size() - rests);
    lengths[i] = {*shared, *rest};
    bytes += *shared + *rest;
    rests += *rest;
  }
  auto block = std::make_unique<Block>();
  block->texts.reserve(bytes);
  for (std::size_t i = 0; i < count; ++i) {
    const auto [shared, rest] = lengths[i];
    must(rest <= static_cast<std::size_t>(end - at));
    block->begins[i] = block->texts.size();
    if (checks_ && i != 0) {
      // In order: where it parts from the one before, it goes on with more.
      const std::size_t before = block->begins[i] - block->begins[i - 1];
      const auto byte_at = [](const char* byte) { return static_cast<unsigned char>(*byte); };
      must(rest != 0 && (shared == before || byte_at(at) > byte_at(&block->texts[block->begins[i - 1] + shared])));
    }
    if (shared != 0) block->texts.append(block->texts, block->begins[i - 1], shared);
    block->texts.append(at, rest);
    at += rest;
    // Each a text for itself, if all together are one.
    must(!checks_ || block->texts.size() == block->begins[i] ||
         !utf8::internal::is_trail(block->texts[block->begins[i]]));
  }
  must(at == end && (!checks_ || is_utf8(block->texts)));
  block->begins[count] = block->texts.size();
  return block;
}

const TextDictionary::Block& TextDictionary::block(std::size_t number) const {
  std::atomic<const Block*>& place = unpacked_->blocks[number];
  if (const Block* const ready = place.load(std::memory_order_acquire)) return *ready;
  std::unique_ptr<const Block> made = unpack(number);
  const Block* other = nullptr;
  // Two threads may unpack it; the first one's stays.
  if (!place.compare_exchange_strong(other, made.get(), std::memory_order_acq_rel)) return *other;
  return *made.release();
}

std::string_view TextDictionary::at(std::uint64_t code) const {
  const Block& b = block(code / block_texts);
  const std::size_t i = code % block_texts;
  return std::string_view(b.texts).substr(b.begins[i], b.begins[i + 1] - b.begins[i]);
}

void TextDictionary::verify() const {
  for (std::size_t b = 0; b < blocks(); ++b) unpack(b);
}

}  // namespace juniper::store
