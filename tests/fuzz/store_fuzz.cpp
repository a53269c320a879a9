// What opens stores must survive any bytes: a target for libFuzzer. The input is a way to spoil a small store: its
// first byte says what is spoiled, then each three bytes are a place and what is put there. Checksums are made right
// again, so that the checks behind them are reached; whatever opens is read to its end. Run by scripts/fuzz.
#include <xxhash.h>

#include <array>
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <fstream>

#include "base/failure.h"
#include "store/directory.h"
#include "support/tiny_store.h"

namespace {

using namespace juniper;
using Bytes = std::vector<std::byte>;

struct Spoiler {
  const std::uint8_t* data;
  std::size_t size;

  Bytes operator()(Bytes bytes) const {
    for (std::size_t i = 1; i + 2 < size; i += 3) {
      const std::size_t at = data[i] | static_cast<std::size_t>(data[i + 1]) << 8;
      // The last places cut the bytes off.
      if (at >= 65'000)
        bytes.resize(bytes.size() * data[i + 2] / 256);
      else if (!bytes.empty())
        bytes[at % bytes.size()] = static_cast<std::byte>(data[i + 2]);
    }
    return bytes;
  }
};

void put(Bytes& bytes, std::size_t at, const void* from, std::size_t count) {
  if (at <= bytes.size() && count <= bytes.size() - at) std::memcpy(bytes.data() + at, from, count);
}
std::uint64_t number(const Bytes& bytes, std::size_t at, std::size_t count) {
  std::uint64_t value = 0;
  if (at <= bytes.size() && count <= bytes.size() - at) std::memcpy(&value, bytes.data() + at, count);
  return value;
}
std::uint64_t hash(const Bytes& bytes, std::size_t at, std::size_t count) {
  if (at > bytes.size() || count > bytes.size() - at) return 0;
  return XXH3_64bits(bytes.data() + at, count);
}

// The header and the directory of a store as their checksums say (docs/store.md).
void mend_store(Bytes& bytes) {
  const std::uint64_t directory = hash(bytes, number(bytes, 24, 8), number(bytes, 32, 8));
  const std::uint64_t size = bytes.size();
  put(bytes, 16, &size, 8);
  put(bytes, 40, &directory, 8);
  const std::uint64_t header = hash(bytes, 0, 56);
  put(bytes, 56, &header, 8);
}

void read_store(const Bytes& bytes) {
  static const std::string path = "/dev/shm/juniper-store-fuzz." + std::to_string(::getpid());
  std::ofstream(path, std::ios::binary)
      .write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
  (void)base::guarded([&]() -> Result<void> {
    const auto opened = store::open_store(path);
    if (!opened) return tl::unexpected(opened.error());
    (void)store::contents(*opened);
    store::verify(*opened, 1);
    return {};
  });
}

// Codes whose blocks have the checksums of what is there: entries of 32 bytes, each with the encoding at 0, widths at 1
// and 2, the count at 4, the offset at 8 and the hash at 12.
void read_codes(Bytes bytes, std::uint64_t rows) {
  if (bytes.size() % 8 != 0) bytes.resize(bytes.size() / 8 * 8);
  const std::size_t blocks = (rows + store::block_rows - 1) / store::block_rows;
  for (std::size_t b = 0; b < blocks; ++b) {
    // The length that the entry makes of its fields is the library's to know; a guess of each is tried.
    const auto entry = b * 32;
    const std::uint64_t count = number(bytes, entry + 4, 2);
    const std::uint64_t bits = number(bytes, entry + 1, 1);
    const std::uint64_t other = number(bytes, entry + 2, 1);
    const std::size_t in_block = std::min<std::size_t>(store::block_rows, rows - b * store::block_rows);
    const auto words = [](std::uint64_t n, std::uint64_t width) { return (n * width + 63) / 64; };
    const std::uint64_t lengths[] = {0, words(in_block, bits), words(count, bits) + (count + 3) / 4,
                                     words((in_block + 127) / 128, other) + words(in_block, bits),
                                     words(in_block, 1) + words(count, bits)};
    const std::uint64_t encoding = number(bytes, entry, 1);
    if (encoding >= 5) continue;
    const auto sum =
        static_cast<std::uint32_t>(hash(bytes, blocks * 32 + number(bytes, entry + 8, 4) * 8, lengths[encoding] * 8));
    put(bytes, entry + 12, &sum, 4);
  }
  const std::uint64_t directory = hash(bytes, 0, blocks * 32);
  constexpr std::uint64_t largest = 1'000'000;
  const auto must_be_within = [](std::uint64_t code) {
    if (code > largest) std::abort();
  };
  const store::Bytes shared(std::move(bytes));
  // Each way of reading on codes that nothing has looked at.
  const auto read = [&](const auto& way) {
    (void)base::guarded([&]() -> Result<void> {
      const auto codes = store::Codes::view(shared, rows, {largest}, directory, "codes");
      if (codes) way(*codes);
      return {};
    });
  };
  read([&](const store::Codes& codes) {
    for (const std::uint64_t code : codes.decoded()) must_be_within(code);
  });
  read([&](const store::Codes& codes) {
    std::array<std::uint32_t, store::block_rows> narrow;
    for (std::size_t b = 0; b < blocks; ++b) {
      must_be_within(codes.bounds(b).low);
      std::array<store::Codes::Run, store::Codes::most_runs> runs;
      const std::size_t count = codes.runs(b, runs.data());
      for (std::size_t r = 0; r < count; ++r) must_be_within(runs[r].code);
      codes.decode_block(b, narrow.data());
      for (std::size_t i = 0; i < codes.rows_in_block(b); ++i) must_be_within(narrow[i]);
    }
  });
  read([&](const store::Codes& codes) {
    for (std::uint64_t row = 0; row < rows; row += 7) must_be_within(codes.at(row));
  });
}

// Entries of 32 bytes: the offset at 0, the bytes at 8, the hash at 16.
void read_texts(Bytes bytes, std::uint64_t count) {
  const std::size_t blocks = (count + 1023) / 1024;
  for (std::size_t b = 0; b < blocks; ++b) {
    const auto sum =
        static_cast<std::uint32_t>(hash(bytes, blocks * 32 + number(bytes, b * 32, 8), number(bytes, b * 32 + 8, 4)));
    put(bytes, b * 32 + 16, &sum, 4);
    // A block that says it holds gigabytes only costs memory.
    const std::uint32_t unpacked = static_cast<std::uint32_t>(number(bytes, b * 32 + 12, 4) & 0xFFFFF);
    put(bytes, b * 32 + 12, &unpacked, 4);
  }
  const std::uint64_t directory = hash(bytes, 0, blocks * 32);
  (void)base::guarded([&]() -> Result<void> {
    const auto texts = store::TextDictionary::view(store::Bytes(std::move(bytes)), count, directory, "texts");
    for (std::uint64_t i = 0; texts && i < count; ++i) (void)texts->at(i);
    return {};
  });
}

Bytes written_store() {
  store::Store made = store::tiny_store();
  const std::string path = "/dev/shm/juniper-store-fuzz.base." + std::to_string(::getpid());
  if (!store::write_store(made, path)) std::abort();
  std::ifstream file(path, std::ios::binary);
  const std::string text((std::istreambuf_iterator<char>(file)), {});
  const auto view = std::as_bytes(std::span(text));
  return {view.begin(), view.end()};
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const store::Store tiny = store::tiny_store();
  static const Bytes whole = written_store();
  if (size < 1) return 0;
  const Spoiler spoiled{data, size};
  const auto bytes_of = [](const store::Bytes& bytes) { return Bytes(bytes.view().begin(), bytes.view().end()); };
  const auto& columns = tiny.tables[0].columns;
  switch (data[0] % 16) {
    case 0:
      read_store(spoiled(whole));
      break;
    case 1:
    case 2:
    case 3: {
      Bytes bytes = spoiled(whole);
      mend_store(bytes);
      read_store(bytes);
      break;
    }
    case 4:
      (void)store::read_directory(std::as_bytes(std::span(data + 1, size - 1)));
      break;
    case 5:
    case 6: {
      const auto& texts = columns[6].data.texts;
      read_texts(spoiled(bytes_of(texts.bytes())), texts.size());
      break;
    }
    default: {
      const store::Codes& codes = columns[data[0] / 16 % columns.size()].data.codes;
      read_codes(spoiled(bytes_of(codes.bytes())), codes.size());
    }
  }
  return 0;
}
