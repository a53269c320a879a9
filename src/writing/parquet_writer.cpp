// Apache Parquet (apache/parquet-format): row groups of column chunks, each a dictionary page where that is small, and data
// pages of version 1, compressed by zstd. What the file says of itself is written with Thrift's compact protocol.
#include <fmt/format.h>
#include <thrift/protocol/TCompactProtocol.h>
#include <thrift/transport/TBufferTransports.h>
#include <zstd.h>

#include <algorithm>
#include <array>
#include <bit>
#include <boost/unordered/unordered_flat_map.hpp>
#include <cstring>
#include <limits>
#include <new>
#include <optional>

#include "base/xxhash.h"
#include "writing/append.h"
#include "writing/table_writer.h"

namespace juniper::writing {

namespace {

using apache::thrift::protocol::TCompactProtocolT;
using apache::thrift::protocol::TType;
using apache::thrift::transport::TMemoryBuffer;

constexpr std::size_t rows_of_group = std::size_t{1} << 18;
constexpr std::size_t rows_of_page = std::size_t{1} << 15;
constexpr std::size_t most_entries = std::size_t{1} << 16;  // of a dictionary
constexpr std::size_t most_dictionary_bytes = std::size_t{1} << 20;
constexpr std::string_view magic = "PAR1";

// Numbers of the standard.
enum class Physical : std::int32_t { boolean = 0, int32 = 1, int64 = 2, real64 = 5, bytes = 6, fixed_bytes = 7 };
constexpr std::int32_t plain = 0;
constexpr std::int32_t run_lengths = 3;
constexpr std::int32_t dictionary_numbers = 8;
constexpr std::int32_t zstd_codec = 6;

Physical physical_of(const WrittenColumn& column) {
  switch (column.type.kind) {
    case TypeKind::boolean:
      return Physical::boolean;
    case TypeKind::decimal:
      return column.is_wide() ? Physical::fixed_bytes : Physical::int64;
    case TypeKind::integer:
    case TypeKind::datetime:
    case TypeKind::time:
      return Physical::int64;
    case TypeKind::real:
      return Physical::real64;
    case TypeKind::date:
      return Physical::int32;
    case TypeKind::text:
      return Physical::bytes;
  }
  return Physical::bytes;
}

// A structure of Thrift, field by field.
class Structure {
 public:
  Structure() : memory_(std::make_shared<TMemoryBuffer>()), protocol_(memory_) {}

  template <class Fields>
  void write(const Fields& fields) {
    protocol_.writeStructBegin("");
    fields();
    protocol_.writeFieldStop();
    protocol_.writeStructEnd();
  }
  void int32(std::int16_t field, std::int32_t value) {
    put(apache::thrift::protocol::T_I32, field, [&] { protocol_.writeI32(value); });
  }
  void int64(std::int16_t field, std::int64_t value) {
    put(apache::thrift::protocol::T_I64, field, [&] { protocol_.writeI64(value); });
  }
  void boolean(std::int16_t field, bool value) {
    put(apache::thrift::protocol::T_BOOL, field, [&] { protocol_.writeBool(value); });
  }
  void text(std::int16_t field, const std::string& value) {
    put(apache::thrift::protocol::T_STRING, field, [&] { protocol_.writeBinary(value); });
  }
  template <class Fields>
  void structure(std::int16_t field, const Fields& fields) {
    put(apache::thrift::protocol::T_STRUCT, field, [&] { write(fields); });
  }
  void empty(std::int16_t field) {
    structure(field, [] {});
  }
  template <class Item>
  void list(std::int16_t field, TType type, std::size_t count, const Item& item) {
    put(apache::thrift::protocol::T_LIST, field, [&] {
      protocol_.writeListBegin(type, static_cast<std::uint32_t>(count));
      for (std::size_t i = 0; i < count; ++i) item(i);
      protocol_.writeListEnd();
    });
  }
  void item(std::int32_t value) { protocol_.writeI32(value); }
  void item(const std::string& value) { protocol_.writeBinary(value); }
  std::string bytes() const { return memory_->getBufferAsString(); }

 private:
  template <class Write>
  void put(TType type, std::int16_t field, const Write& write) {
    protocol_.writeFieldBegin("", type, field);
    write();
    protocol_.writeFieldEnd();
  }

  std::shared_ptr<TMemoryBuffer> memory_;
  TCompactProtocolT<TMemoryBuffer> protocol_;
};

// Numbers of a few bits each, in runs of the same one and in packs of eight.
class RunWriter {
 public:
  RunWriter(unsigned bits, std::string& out) : bits_(bits), out_(out) {}

  void add_all(const std::vector<std::uint32_t>& numbers) {
    for (std::size_t i = 0; i < numbers.size();) {
      std::size_t end = i + 1;
      while (end < numbers.size() && numbers[end] == numbers[i]) ++end;
      // A pack that has begun takes eight.
      while (i < end && packed_.size() % 8 != 0) packed_.push_back(numbers[i++]);
      if (end - i < 8) {
        packed_.insert(packed_.end(), numbers.begin() + static_cast<std::ptrdiff_t>(i),
                       numbers.begin() + static_cast<std::ptrdiff_t>(end));
      } else {
        flush();
        add_length((end - i) << 1);
        for (unsigned byte = 0; byte < (bits_ + 7) / 8; ++byte) out_ += static_cast<char>(numbers[i] >> 8 * byte);
      }
      i = end;
    }
    flush();
  }

 private:
  void add_length(std::size_t length) {
    for (; length > 127; length >>= 7) out_ += static_cast<char>((length & 127) | 128);
    out_ += static_cast<char>(length);
  }
  void flush() {
    if (packed_.empty()) return;
    packed_.resize((packed_.size() + 7) / 8 * 8);
    add_length(packed_.size() / 8 << 1 | 1);
    std::uint64_t word = 0;
    unsigned used = 0;
    for (const std::uint32_t number : packed_) {
      word |= std::uint64_t{number} << used;
      used += bits_;
      for (; used >= 8; used -= 8, word >>= 8) out_ += static_cast<char>(word);
    }
    packed_.clear();
  }

  unsigned bits_;
  std::string& out_;
  std::vector<std::uint32_t> packed_;
};

struct WrittenChunk {
  std::int64_t dictionary_at = -1;
  std::int64_t data_at = 0;
  std::int64_t bytes = 0;
  std::int64_t bytes_unpacked = 0;
  std::int64_t nulls = 0;
  std::string least;  // as they are written; "" where there are none
  std::string most;
};

// The values of a column in one row group, as they will be written.
class Chunk {
 public:
  explicit Chunk(const WrittenColumn& column) : column_(column), physical_(physical_of(column)) {}

  void add(const BatchColumn& values, std::size_t begin, std::size_t end) {
    for (std::size_t row = begin; row < end; ++row) {
      const bool is_null = values.is_null[row] != 0;
      is_there_.push_back(is_null ? 0 : 1);
      if (is_null) continue;
      const std::size_t at = bytes_.size();
      add_value(values, row);
      ends_.push_back(bytes_.size());
      if (has_dictionary_ && physical_ != Physical::boolean) number(std::string_view(bytes_).substr(at));
    }
  }

  std::size_t rows() const { return is_there_.size(); }

  WrittenChunk write(std::uint64_t file_bytes, const std::function<void(std::string_view)>& sink) {
    WrittenChunk chunk;
    const auto put = [&](const std::string& head, const std::string& body, std::size_t unpacked) {
      sink(head);
      sink(body);
      chunk.bytes += static_cast<std::int64_t>(head.size() + body.size());
      chunk.bytes_unpacked += static_cast<std::int64_t>(head.size() + unpacked);
    };
    const bool is_numbered = has_dictionary_ && !numbers_.empty();
    if (is_numbered) {
      chunk.dictionary_at = static_cast<std::int64_t>(file_bytes);
      const std::string body = packed(dictionary_);
      put(head_of(2, dictionary_.size(), body.size(), known_.size(), plain), body, dictionary_.size());
    }
    chunk.data_at = static_cast<std::int64_t>(file_bytes) + chunk.bytes;
    std::size_t value = 0;
    for (std::size_t row = 0; row < rows(); row += rows_of_page) {
      const std::size_t end = std::min(rows(), row + rows_of_page);
      std::string page = levels(row, end);
      std::size_t values = 0;
      for (std::size_t r = row; r < end; ++r) values += is_there_[r];
      add_values(value, value + values, is_numbered, page);
      value += values;
      const std::string body = packed(page);
      put(head_of(0, page.size(), body.size(), end - row, is_numbered ? dictionary_numbers : plain), body, page.size());
    }
    chunk.nulls = static_cast<std::int64_t>(std::count(is_there_.begin(), is_there_.end(), 0U));
    if (has_bounds_ && physical_ != Physical::bytes && physical_ != Physical::fixed_bytes) {
      chunk.least = bound(least_);
      chunk.most = bound(most_);
    }
    *this = Chunk(column_);
    return chunk;
  }
  bool has_dictionary() const { return has_dictionary_ && !numbers_.empty(); }

 private:
  void add_value(const BatchColumn& values, std::size_t row) {
    switch (physical_) {
      case Physical::boolean:
        bytes_ += static_cast<char>(values.exact[row] != 0 ? 1 : 0);
        return take(static_cast<double>(values.exact[row] != 0));
      case Physical::int32:
        append(bytes_, static_cast<std::int32_t>(values.exact[row]));
        return take_exact(static_cast<std::int64_t>(values.exact[row]));
      case Physical::int64:
        append(bytes_, static_cast<std::int64_t>(values.exact[row]));
        return take_exact(static_cast<std::int64_t>(values.exact[row]));
      case Physical::real64:
        append(bytes_, values.real[row]);
        return take(values.real[row]);
      case Physical::fixed_bytes:
        // The highest byte first.
        for (int byte = 15; byte >= 0; --byte) bytes_ += static_cast<char>(values.exact[row] >> 8 * byte);
        return;
      case Physical::bytes:
        append(bytes_, static_cast<std::uint32_t>(values.text[row].size()));
        bytes_ += values.text[row];
        return;
    }
  }

  // Least and most of numbers, exact ones in 64 bits.
  void take_exact(std::int64_t value) {
    least_.exact = has_bounds_ ? std::min(least_.exact, value) : value;
    most_.exact = has_bounds_ ? std::max(most_.exact, value) : value;
    has_bounds_ = true;
  }
  void take(double value) {
    least_.real = has_bounds_ ? std::min(least_.real, value) : value;
    most_.real = has_bounds_ ? std::max(most_.real, value) : value;
    has_bounds_ = true;
  }
  struct Bound {
    std::int64_t exact = 0;
    double real = 0;
  };
  std::string bound(const Bound& value) const {
    std::string out;
    switch (physical_) {
      case Physical::boolean:
        out += static_cast<char>(value.real != 0 ? 1 : 0);
        break;
      case Physical::int32:
        append(out, static_cast<std::int32_t>(value.exact));
        break;
      case Physical::int64:
        append(out, value.exact);
        break;
      case Physical::real64:
        append(out, value.real);
        break;
      case Physical::fixed_bytes:
      case Physical::bytes:
        break;
    }
    return out;
  }

  // Takes a value into the dictionary, as long as there is one.
  void number(std::string_view value) {
    const auto at = known_.find(value);
    if (at != known_.end()) {
      numbers_.push_back(at->second);
      return;
    }
    if (known_.size() == most_entries || dictionary_.size() + value.size() > most_dictionary_bytes) {
      has_dictionary_ = false;
      known_.clear();
      numbers_.clear();
      return;
    }
    numbers_.push_back(static_cast<std::uint32_t>(known_.size()));
    known_.emplace(std::string(value), numbers_.back());
    dictionary_ += value;
  }

  // Whether the rows hold a value, as runs behind their length in bytes.
  std::string levels(std::size_t begin, std::size_t end) const {
    std::string runs;
    RunWriter(1, runs).add_all(
        {is_there_.begin() + static_cast<std::ptrdiff_t>(begin), is_there_.begin() + static_cast<std::ptrdiff_t>(end)});
    std::string out;
    append(out, static_cast<std::uint32_t>(runs.size()));
    return out + runs;
  }

  void add_values(std::size_t begin, std::size_t end, bool is_numbered, std::string& page) const {
    if (is_numbered) {
      const unsigned bits = std::max(1U, static_cast<unsigned>(std::bit_width(known_.size() - 1)));
      page += static_cast<char>(bits);
      RunWriter(bits, page)
          .add_all({numbers_.begin() + static_cast<std::ptrdiff_t>(begin),
                    numbers_.begin() + static_cast<std::ptrdiff_t>(end)});
      return;
    }
    const std::size_t first = begin == 0 ? 0 : ends_[begin - 1];
    const std::size_t last = end == 0 ? 0 : ends_[end - 1];
    if (physical_ != Physical::boolean) {
      page.append(bytes_, first, last - first);
      return;
    }
    // A bit for each, the lowest first.
    for (std::size_t i = begin; i < end; i += 8) {
      unsigned byte = 0;
      for (std::size_t bit = 0; bit < 8 && i + bit < end; ++bit)
        byte |= static_cast<unsigned>(bytes_[i + bit] != 0) << bit;
      page += static_cast<char>(byte);
    }
  }

  static std::string packed(const std::string& bytes) {
    std::string out(ZSTD_compressBound(bytes.size()), '\0');
    const std::size_t size = ZSTD_compress(out.data(), out.size(), bytes.data(), bytes.size(), 1);
    if (ZSTD_isError(size) != 0U) throw std::bad_alloc();
    out.resize(size);
    return out;
  }

  static std::string head_of(std::int32_t kind, std::size_t unpacked, std::size_t bytes, std::size_t values,
                             std::int32_t encoding) {
    Structure head;
    head.write([&] {
      head.int32(1, kind);
      head.int32(2, static_cast<std::int32_t>(unpacked));
      head.int32(3, static_cast<std::int32_t>(bytes));
      const bool is_dictionary = kind == 2;
      head.structure(is_dictionary ? 7 : 5, [&] {
        head.int32(1, static_cast<std::int32_t>(values));
        head.int32(2, encoding);
        if (is_dictionary) return;
        head.int32(3, run_lengths);
        head.int32(4, run_lengths);
      });
    });
    return head.bytes();
  }

  WrittenColumn column_;
  Physical physical_;
  std::vector<std::uint32_t> is_there_;  // of each row
  std::string bytes_;                    // the values that are there, plain; of booleans, a byte each
  std::vector<std::size_t> ends_;        // of each of them
  bool has_dictionary_ = true;
  struct Hash {
    using is_transparent = void;
    std::size_t operator()(std::string_view text) const { return XXH3_64bits(text.data(), text.size()); }
  };
  boost::unordered_flat_map<std::string, std::uint32_t, Hash, std::equal_to<>> known_;
  std::vector<std::uint32_t> numbers_;  // of each value that is there
  std::string dictionary_;
  bool has_bounds_ = false;
  Bound least_;
  Bound most_;
};

class ParquetWriter : public TableWriter {
 public:
  ParquetWriter(std::vector<WrittenColumn> columns, Sink sink) : columns_(std::move(columns)), sink_(std::move(sink)) {
    for (const WrittenColumn& column : columns_) chunks_.emplace_back(column);
    put(magic);
  }

  void write(const Batch& batch) override {
    for (std::size_t begin = 0; begin < batch.rows;) {
      const std::size_t end = std::min(batch.rows, begin + rows_of_group - rows_);
      for (std::size_t c = 0; c < chunks_.size(); ++c) chunks_[c].add(batch.columns[c], begin, end);
      rows_ += end - begin;
      begin = end;
      if (rows_ == rows_of_group) write_group();
    }
  }

  void finish() override {
    if (rows_ > 0) write_group();
    const std::string data = file_data();
    put(data);
    std::string length;
    append(length, static_cast<std::uint32_t>(data.size()));
    put(length);
    put(magic);
  }

 private:
  struct Group {
    std::size_t rows = 0;
    std::vector<WrittenChunk> chunks;
  };

  void put(std::string_view bytes) {
    sink_(bytes);
    bytes_ += bytes.size();
  }

  void write_group() {
    Group group{rows_, {}};
    for (Chunk& chunk : chunks_)
      group.chunks.push_back(chunk.write(bytes_, [this](std::string_view bytes) { put(bytes); }));
    groups_.push_back(std::move(group));
    all_rows_ += rows_;
    rows_ = 0;
  }

  static void write_meaning(Structure& data, const WrittenColumn& column) {
    const std::int32_t digits = column.is_wide() ? 38 : 18;
    const auto in_microseconds = [&] {
      data.boolean(1, false);
      data.structure(2, [&] { data.empty(2); });
    };
    switch (column.type.kind) {
      case TypeKind::text:
        data.int32(6, 0);
        data.structure(10, [&] { data.empty(1); });
        return;
      case TypeKind::decimal:
        data.int32(6, 5);
        data.int32(7, column.type.scale);
        data.int32(8, digits);
        data.structure(10, [&] {
          data.structure(5, [&] {
            data.int32(1, column.type.scale);
            data.int32(2, digits);
          });
        });
        return;
      case TypeKind::date:
        data.int32(6, 6);
        data.structure(10, [&] { data.empty(6); });
        return;
      case TypeKind::time:
        data.structure(10, [&] { data.structure(7, in_microseconds); });
        return;
      case TypeKind::datetime:
        data.structure(10, [&] { data.structure(8, in_microseconds); });
        return;
      case TypeKind::boolean:
      case TypeKind::integer:
      case TypeKind::real:
        return;
    }
  }

  void write_chunk(Structure& data, const WrittenChunk& chunk, std::size_t c, std::size_t rows) const {
    const bool is_numbered = chunk.dictionary_at >= 0;
    data.write([&] {
      data.int64(2, is_numbered ? chunk.dictionary_at : chunk.data_at);
      data.structure(3, [&] {
        data.int32(1, static_cast<std::int32_t>(physical_of(columns_[c])));
        const std::vector<std::int32_t> encodings =
            is_numbered ? std::vector<std::int32_t>{plain, run_lengths, dictionary_numbers}
                        : std::vector<std::int32_t>{plain, run_lengths};
        data.list(2, apache::thrift::protocol::T_I32, encodings.size(),
                  [&](std::size_t i) { data.item(encodings[i]); });
        data.list(3, apache::thrift::protocol::T_STRING, 1, [&](std::size_t) { data.item(columns_[c].name); });
        data.int32(4, zstd_codec);
        data.int64(5, static_cast<std::int64_t>(rows));
        data.int64(6, chunk.bytes_unpacked);
        data.int64(7, chunk.bytes);
        data.int64(9, chunk.data_at);
        if (is_numbered) data.int64(11, chunk.dictionary_at);
        data.structure(12, [&] {
          data.int64(3, chunk.nulls);
          if (chunk.most.empty()) return;
          data.text(5, chunk.most);
          data.text(6, chunk.least);
        });
      });
    });
  }

  std::string file_data() const {
    Structure data;
    data.write([&] {
      data.int32(1, 1);
      data.list(2, apache::thrift::protocol::T_STRUCT, columns_.size() + 1, [&](std::size_t i) {
        data.write([&] {
          if (i == 0) {
            data.text(4, "table");
            data.int32(5, static_cast<std::int32_t>(columns_.size()));
            return;
          }
          const WrittenColumn& column = columns_[i - 1];
          data.int32(1, static_cast<std::int32_t>(physical_of(column)));
          if (physical_of(column) == Physical::fixed_bytes) data.int32(2, sizeof(int128));
          data.int32(3, 1);  // a value may be null
          data.text(4, column.name);
          write_meaning(data, column);
        });
      });
      data.int64(3, static_cast<std::int64_t>(all_rows_));
      data.list(4, apache::thrift::protocol::T_STRUCT, groups_.size(), [&](std::size_t g) {
        data.write([&] {
          const Group& group = groups_[g];
          std::int64_t bytes = 0;
          for (const WrittenChunk& chunk : group.chunks) bytes += chunk.bytes_unpacked;
          data.list(1, apache::thrift::protocol::T_STRUCT, group.chunks.size(),
                    [&](std::size_t c) { write_chunk(data, group.chunks[c], c, group.rows); });
          data.int64(2, bytes);
          data.int64(3, static_cast<std::int64_t>(group.rows));
        });
      });
      data.text(6, "juniper ridge");
    });
    return data.bytes();
  }

  std::vector<WrittenColumn> columns_;
  Sink sink_;
  std::vector<Chunk> chunks_;
  std::size_t rows_ = 0;  // of the group under way
  std::uint64_t all_rows_ = 0;
  std::uint64_t bytes_ = 0;
  std::vector<Group> groups_;
};

}  // namespace

std::unique_ptr<TableWriter> parquet_writer(std::vector<WrittenColumn> columns, Sink sink) {
  return std::make_unique<ParquetWriter>(std::move(columns), std::move(sink));
}

}  // namespace juniper::writing
