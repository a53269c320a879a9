#include "store/directory.h"

#include <cstring>
#include <type_traits>
#include <utility>

namespace juniper::store {

namespace {

// Each structure names its fields once, for writing and for reading: `Entry` is the structure, constant or not.
template <class Entry, class Wanted>
concept Is = std::is_same_v<std::remove_const_t<Entry>, Wanted>;

template <class Archive, Is<PartEntry> Entry>
void fields(Archive& archive, Entry& entry) {
  archive(entry.offset, entry.bytes, entry.hash);
}
template <class Archive, Is<ParameterEntry> Entry>
void fields(Archive& archive, Entry& entry) {
  archive(entry.name, entry.value);
}
template <class Archive, Is<ModelTextEntry> Entry>
void fields(Archive& archive, Entry& entry) {
  archive(entry.name, entry.text);
}
template <class Archive, Is<ColumnEntry> Entry>
void fields(Archive& archive, Entry& entry) {
  archive(entry.name, entry.calculated, entry.evaluate_nanoseconds, entry.encode_nanoseconds, entry.broken, entry.type,
          entry.scale, entry.layout, entry.distinct, entry.nulls, entry.base, entry.step, entry.null_code, entry.least,
          entry.most, entry.encoding, entry.codes, entry.smallest, entry.dictionary);
}
template <class Archive, Is<TableEntry> Entry>
void fields(Archive& archive, Entry& entry) {
  archive(entry.name, entry.signature, entry.rows, entry.unreached_rows, entry.source_bytes, entry.read_nanoseconds,
          entry.encode_nanoseconds, entry.broken, entry.order_asked, entry.order, entry.order_saved_bytes,
          entry.file_order, entry.columns);
}
template <class Archive, Is<LinkEntry> Entry>
void fields(Archive& archive, Entry& entry) {
  archive(entry.name, entry.table, entry.column, entry.form, entry.rows, entry.no_row, entry.unmatched,
          entry.resolve_nanoseconds, entry.encoding, entry.broken, entry.codes);
}
template <class Archive, Is<source::SourceFile> Entry>
void fields(Archive& archive, Entry& entry) {
  archive(entry.table, entry.path, entry.bytes, entry.modified_nanoseconds, entry.hash, entry.rows, entry.rejected);
}
template <class Archive, Is<Directory> Entry>
void fields(Archive& archive, Entry& entry) {
  archive(entry.signature, entry.load_nanoseconds, entry.parameters, entry.reads_today, entry.today, entry.model_texts,
          entry.tables, entry.links, entry.sources);
}

class Output {
 public:
  template <class... Fields>
  void operator()(const Fields&... each) {
    (put(each), ...);
  }
  std::vector<std::byte> bytes;

 private:
  void put(std::uint64_t number) { append(&number, sizeof(number)); }
  void put(std::int64_t number) { append(&number, sizeof(number)); }
  void put(const std::string& text) {
    put(std::uint64_t{text.size()});
    append(text.data(), text.size());
  }
  template <class Item>
  void put(const std::vector<Item>& items) {
    put(std::uint64_t{items.size()});
    for (const Item& item : items) fields(*this, item);
  }
  template <class Entry>
  void put(const Entry& entry) {
    fields(*this, entry);
  }
  void append(const void* from, std::size_t count) {
    const auto* const begin = static_cast<const std::byte*>(from);
    bytes.insert(bytes.end(), begin, begin + count);
  }
};

class Input {
 public:
  explicit Input(std::span<const std::byte> bytes) : left_(bytes) {}
  template <class... Fields>
  void operator()(Fields&... each) {
    (get(each), ...);
  }
  // True if all was there, and nothing more.
  bool is_whole() const { return good_ && left_.empty(); }

 private:
  void get(std::uint64_t& number) { take(&number, sizeof(number)); }
  void get(std::int64_t& number) { take(&number, sizeof(number)); }
  void get(std::string& text) {
    text.resize(count());
    take(text.data(), text.size());
  }
  template <class Item>
  void get(std::vector<Item>& items) {
    for (std::uint64_t n = count(); n > 0 && good_; --n) fields(*this, items.emplace_back());
  }
  template <class Entry>
  void get(Entry& entry) {
    fields(*this, entry);
  }
  // A number of bytes or items; none is smaller than a byte, so that more than are left can't come.
  std::uint64_t count() {
    std::uint64_t number = 0;
    get(number);
    good_ = good_ && number <= left_.size();
    return good_ ? number : 0;
  }
  void take(void* to, std::size_t bytes) {
    good_ = good_ && bytes <= left_.size();
    if (!good_) return;
    std::memcpy(to, left_.data(), bytes);
    left_ = left_.subspan(bytes);
  }

  std::span<const std::byte> left_;
  bool good_ = true;
};

}  // namespace

std::vector<std::byte> to_bytes(const Directory& directory) {
  Output output;
  fields(output, directory);
  return std::move(output.bytes);
}

std::optional<Directory> read_directory(std::span<const std::byte> bytes) {
  Input input(bytes);
  Directory directory;
  fields(input, directory);
  return input.is_whole() ? std::optional(std::move(directory)) : std::nullopt;
}

}  // namespace juniper::store
