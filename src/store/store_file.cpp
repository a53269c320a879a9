#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <cerrno>
#include <charconv>
#include <cstdio>
#include <nlohmann/json.hpp>

#include "base/diagnostics.h"
#include "base/parallel.h"
#include "store/store.h"

namespace juniper::store {

namespace {

using Json = nlohmann::json;

constexpr std::array<char, 8> magic{'J', 'R', 'S', 'T', 'O', 'R', 'E', '\n'};
constexpr std::uint32_t format_version = 3;
constexpr std::string_view new_ending = ".new";

struct Header {
  std::array<char, 8> magic;
  std::uint32_t version;
  std::uint32_t zero;
  std::uint64_t file_bytes;
  std::uint64_t directory_offset;
  std::uint64_t directory_bytes;
  std::uint64_t directory_hash;
  std::uint64_t reserved;
  std::uint64_t header_hash;
};
static_assert(sizeof(Header) == 64);

std::uint64_t hash_of_header(const Header& header) {
  return hash_bytes(std::as_bytes(std::span(&header, 1)).first(offsetof(Header, header_hash)));
}

// --- writing --------------------------------------------------------------------------------------------------------

// A file descriptor that is closed, and a file that is removed, unless `keep` was called.
class NewFile {
 public:
  explicit NewFile(std::filesystem::path path)
      : path_(std::move(path)), descriptor_(::open(path_.c_str(), O_CREAT | O_TRUNC | O_WRONLY | O_CLOEXEC, 0644)) {
    if (descriptor_ < 0) error_ = errno;
  }
  ~NewFile() {
    if (descriptor_ >= 0) ::close(descriptor_);
    if (!kept_) ::unlink(path_.c_str());
  }
  NewFile(const NewFile&) = delete;
  NewFile& operator=(const NewFile&) = delete;

  void write(std::span<const std::byte> bytes) {
    while (error_ == 0 && !bytes.empty()) {
      const ssize_t written = ::write(descriptor_, bytes.data(), bytes.size());
      if (written < 0 && errno == EINTR) continue;
      if (written < 0) {
        error_ = errno;
      } else {
        bytes = bytes.subspan(static_cast<std::size_t>(written));
        at_ += static_cast<std::uint64_t>(written);
      }
    }
  }
  void rewrite_front(std::span<const std::byte> bytes) {
    if (error_ == 0 && ::pwrite(descriptor_, bytes.data(), bytes.size(), 0) != static_cast<ssize_t>(bytes.size()))
      error_ = errno;
  }
  void sync_and_rename(const std::filesystem::path& target) {
    if (error_ == 0 && ::fsync(descriptor_) != 0) error_ = errno;
    if (error_ == 0 && ::rename(path_.c_str(), target.c_str()) != 0) error_ = errno;
    if (error_ != 0) return;
    kept_ = true;
    // The rename itself is durable once the folder is synced.
    const auto folder = target.has_parent_path() ? target.parent_path() : std::filesystem::path(".");
    if (const int directory = ::open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC); directory >= 0) {
      ::fsync(directory);
      ::close(directory);
    }
  }
  std::uint64_t at() const { return at_; }
  int error() const { return error_; }

 private:
  std::filesystem::path path_;
  int descriptor_;
  std::uint64_t at_ = 0;
  int error_ = 0;
  bool kept_ = false;
};

class Writer {
 public:
  Writer(NewFile& file, FileOverhead& overhead) : file_(file), overhead_(overhead) {}

  // Writes a part, padded to 8 bytes, and gives its entry in the directory.
  Json part(std::span<const std::byte> bytes, std::uint64_t hash) {
    const Json entry{{"offset", file_.at()}, {"bytes", bytes.size()}, {"hash", hash}};
    file_.write(bytes);
    pad();
    return entry;
  }
  Json part(const Codes& codes) { return part(codes.bytes().view(), codes.directory_hash()); }
  Json part(const TextDictionary& texts) { return part(texts.bytes().view(), texts.directory_hash()); }
  Json part(const std::string& text) {
    const auto bytes = std::as_bytes(std::span(text));
    return part(bytes, hash_bytes(bytes));
  }
  void pad() {
    static constexpr std::array<std::byte, 8> zeros{};
    const std::size_t padding = (8 - file_.at() % 8) % 8;
    overhead_.padding += padding;
    file_.write(std::span(zeros).first(padding));
  }

 private:
  NewFile& file_;
  FileOverhead& overhead_;
};

Json value_entry(const Value& value, Type type) {
  return value.is_null() ? Json(nullptr) : Json(to_text(value, type));
}

Json column_entry(Writer& writer, const StoredColumn& column) {
  const Column& data = column.data;
  Json entry{{"name", column.name},
             {"calculated", column.calculated},
             {"evaluate_nanoseconds", column.evaluate_nanoseconds},
             {"encode_nanoseconds", column.encode_nanoseconds},
             {"type", static_cast<int>(data.type.kind)},
             {"scale", data.type.scale},
             {"layout", static_cast<int>(data.layout)},
             {"distinct", data.distinct},
             {"nulls", data.nulls},
             {"base", data.base},
             {"step", data.step},
             {"null_code", data.null_code},
             {"least", value_entry(data.least, data.type)},
             {"most", value_entry(data.most, data.type)},
             {"encoding", data.encoding},
             {"codes", writer.part(data.codes)}};
  if (data.has_dictionary() && data.type.kind == TypeKind::text) {
    entry["dictionary"] = writer.part(data.texts);
  } else if (data.has_dictionary()) {
    entry["smallest"] = data.numbers.smallest();
    entry["dictionary"] = writer.part(data.numbers.codes());
  }
  return entry;
}

Json directory_of(Writer& writer, const Store& store) {
  Json directory{{"signature", store.signature}, {"load_nanoseconds", store.load_nanoseconds}};
  directory["model_texts"] = Json::array();
  for (const ModelText& text : store.model_texts) {
    directory["model_texts"].push_back({{"name", text.name}, {"text", writer.part(text.text)}});
  }
  directory["tables"] = Json::array();
  for (const StoredTable& table : store.tables) {
    Json entry{{"name", table.name},
               {"signature", table.signature},
               {"rows", table.rows},
               {"source_bytes", table.source_bytes},
               {"read_nanoseconds", table.read_nanoseconds},
               {"encode_nanoseconds", table.encode_nanoseconds},
               {"columns", Json::array()}};
    for (const StoredColumn& column : table.columns) entry["columns"].push_back(column_entry(writer, column));
    directory["tables"].push_back(std::move(entry));
  }
  directory["links"] = Json::array();
  for (const StoredLink& link : store.links) {
    directory["links"].push_back({{"name", link.name},
                                  {"no_row", link.no_row},
                                  {"rows", link.rows.size()},
                                  {"resolve_nanoseconds", link.resolve_nanoseconds},
                                  {"encoding", link.rows.describe()},
                                  {"codes", writer.part(link.rows)}});
  }
  directory["sources"] = Json::array();
  for (const source::SourceFile& source : store.sources) {
    directory["sources"].push_back({{"table", source.table},
                                    {"path", source.path},
                                    {"bytes", source.bytes},
                                    {"modified_nanoseconds", source.modified_nanoseconds},
                                    {"hash", source.hash},
                                    {"rows", source.rows},
                                    {"rejected", source.rejected}});
  }
  return directory;
}

// Files that loads left behind which were killed while they wrote: PATH.PID-NUMBER.new of processes that are no more.
void remove_leftovers(const std::filesystem::path& path) {
  const std::string prefix = path.filename().string() + ".";
  const auto folder = path.has_parent_path() ? path.parent_path() : std::filesystem::path(".");
  std::error_code error;
  for (const auto& entry : std::filesystem::directory_iterator(folder, error)) {
    const std::string name = entry.path().filename().string();
    if (!name.starts_with(prefix) || entry.path().extension() != new_ending) continue;
    const std::string digits = name.substr(prefix.size(), name.size() - prefix.size() - new_ending.size());
    pid_t process = 0;
    const auto [end, bad] = std::from_chars(digits.data(), digits.data() + digits.size(), process);
    if (bad != std::errc() || end == digits.data() + digits.size() || *end != '-') continue;
    if (::kill(process, 0) != 0 && errno == ESRCH) std::filesystem::remove(entry.path(), error);
  }
}

}  // namespace

Result<void> write_store(Store& store, const std::filesystem::path& path) {
  // Two loads at once each write a file of their own; the last rename wins.
  remove_leftovers(path);
  static std::atomic<unsigned> written{0};
  const std::filesystem::path beside = path.string() + fmt::format(".{}-{}{}", ::getpid(), written++, new_ending);
  NewFile file(beside);
  store.overhead = {sizeof(Header), 0, 0, 0};
  for (const ModelText& text : store.model_texts) store.overhead.model_text += text.text.size();
  Header header{magic, format_version, 0, 0, 0, 0, 0, 0, 0};
  file.write(std::as_bytes(std::span(&header, 1)));
  Writer writer(file, store.overhead);
  const std::string directory = directory_of(writer, store).dump(-1, ' ', false, Json::error_handler_t::replace);
  header.directory_offset = file.at();
  header.directory_bytes = store.overhead.directory = directory.size();
  header.directory_hash = hash_bytes(std::as_bytes(std::span(directory)));
  file.write(std::as_bytes(std::span(directory)));
  header.file_bytes = store.file_bytes = file.at();
  header.header_hash = hash_of_header(header);
  file.rewrite_front(std::as_bytes(std::span(&header, 1)));
  file.sync_and_rename(path);
  if (file.error() != 0) {
    return tl::unexpected(
        base::error("JR-601", fmt::format("cannot write the store {}: {}", path.string(), std::strerror(file.error())),
                    "free some space, or name another place with --store"));
  }
  return {};
}

// --- opening --------------------------------------------------------------------------------------------------------

namespace {

struct Mapping {
  std::span<const std::byte> bytes;
  explicit Mapping(std::span<const std::byte> mapped) : bytes(mapped) {}
  ~Mapping() {
    if (!bytes.empty()) ::munmap(const_cast<std::byte*>(bytes.data()), bytes.size());
  }
  Mapping(const Mapping&) = delete;
  Mapping& operator=(const Mapping&) = delete;
};

// Thrown while a directory is read, with what is wrong; caught in open_store.
struct Damage {
  std::string what;
};

class Reader {
 public:
  Reader(std::shared_ptr<const Mapping> mapping, std::string file)
      : mapping_(std::move(mapping)), file_(std::move(file)) {}

  StoredColumn column(const Json& entry, const StoredTable& table) const {
    StoredColumn column;
    column.name = entry.at("name");
    column.calculated = entry.at("calculated");
    column.evaluate_nanoseconds = entry.at("evaluate_nanoseconds");
    column.encode_nanoseconds = entry.at("encode_nanoseconds");
    const std::string what = fmt::format("column {}.{}", table.name, column.name);
    const auto must = [&](bool good) {
      if (!good) throw Damage{what + " does not hold together"};
    };
    Column& data = column.data;
    const int kind = entry.at("type");
    const int layout = entry.at("layout");
    must(kind >= 0 && kind <= static_cast<int>(TypeKind::time) && layout >= 0 &&
         layout <= static_cast<int>(Layout::bits));
    data.type = {static_cast<TypeKind>(kind), entry.at("scale").get<std::uint8_t>()};
    data.layout = static_cast<Layout>(layout);
    data.rows = table.rows;
    data.distinct = entry.at("distinct");
    data.nulls = entry.at("nulls");
    data.base = entry.at("base");
    data.step = entry.at("step");
    data.null_code = entry.at("null_code");
    data.least = value(entry.at("least"), data.type, what);
    data.most = value(entry.at("most"), data.type, what);
    data.encoding = entry.at("encoding");
    const bool text = data.type.kind == TypeKind::text;
    must(data.distinct <= data.rows && data.nulls <= data.rows && data.step != 0 && data.type.scale <= 18);
    must(data.least.is_null() == (data.distinct == 0) && data.most.is_null() == (data.distinct == 0));
    must(data.layout != Layout::bits || (data.type.kind == TypeKind::real && data.null_code == null_bits));
    must(data.layout != Layout::offset || (data.type.kind != TypeKind::real && !text));
    must(data.layout != Layout::offset || data.distinct == 0 ||
         (data.least == data.value_of(0) && data.null_code != 0 && data.most == data.value_of(data.null_code - 1)));
    must(data.layout != Layout::dictionary || data.null_code == data.distinct);
    data.codes = codes(entry.at("codes"), table.rows, data.null_code, what);
    if (!data.has_dictionary()) return column;
    const std::string dictionary = "the dictionary of " + what;
    if (text) {
      auto texts = TextDictionary::view(bytes(entry.at("dictionary"), dictionary), data.distinct,
                                        entry.at("dictionary").at("hash"), in_file(dictionary));
      must(texts.has_value());
      data.texts = std::move(*texts);
    } else {
      constexpr auto any = std::numeric_limits<std::uint64_t>::max();
      data.numbers = {codes(entry.at("dictionary"), data.distinct, any, dictionary),
                      entry.at("smallest").get<std::uint64_t>()};
    }
    return column;
  }

  StoredLink link(const Json& entry) const {
    StoredLink link;
    link.name = entry.at("name");
    link.no_row = entry.at("no_row");
    link.resolve_nanoseconds = entry.at("resolve_nanoseconds");
    link.encoding = entry.at("encoding");
    link.rows = codes(entry.at("codes"), entry.at("rows"), link.no_row, "link " + link.name);
    return link;
  }

  Store store(const Header& header) const {
    const auto text = mapping_->bytes.subspan(header.directory_offset, header.directory_bytes);
    const Json directory = Json::parse(reinterpret_cast<const char*>(text.data()),
                                       reinterpret_cast<const char*>(text.data()) + text.size());
    Store store;
    store.signature = directory.at("signature");
    store.load_nanoseconds = directory.at("load_nanoseconds");
    store.overhead = {sizeof(Header), header.directory_bytes, 0, 0};
    for (const Json& entry : directory.at("model_texts")) {
      const Bytes part = bytes(entry.at("text"), "the model text");
      if (hash_bytes(part.view()) != entry.at("text").at("hash").get<std::uint64_t>())
        throw Damage{"the checksum of the model text differs"};
      store.model_texts.push_back(
          {entry.at("name"), std::string(reinterpret_cast<const char*>(part.view().data()), part.size())});
      store.overhead.model_text += part.size();
    }
    std::uint64_t in_parts = 0;
    for (const Json& entry : directory.at("tables")) {
      StoredTable table;
      table.name = entry.at("name");
      table.signature = entry.at("signature");
      table.rows = entry.at("rows");
      table.source_bytes = entry.at("source_bytes");
      table.read_nanoseconds = entry.at("read_nanoseconds");
      table.encode_nanoseconds = entry.at("encode_nanoseconds");
      for (const Json& c : entry.at("columns")) {
        table.columns.push_back(column(c, table));
        in_parts += table.columns.back().data.bytes();
      }
      store.tables.push_back(std::move(table));
    }
    for (const Json& entry : directory.at("links")) {
      store.links.push_back(link(entry));
      in_parts += store.links.back().rows.bytes().size();
    }
    for (const Json& entry : directory.at("sources")) {
      store.sources.push_back({entry.at("table"), entry.at("path"), entry.at("bytes"), entry.at("modified_nanoseconds"),
                               entry.at("hash"), entry.at("rows"), entry.at("rejected")});
    }
    store.file_bytes = header.file_bytes;
    store.overhead.padding = header.file_bytes - in_parts - store.overhead.total();
    return store;
  }

 private:
  // Rows beyond this are no rows but damage; sums of them stay far from the end of 64 bits.
  static constexpr std::uint64_t most_rows = std::uint64_t{1} << 48;

  std::string in_file(const std::string& what) const { return fmt::format("{} of {}", what, file_); }

  Bytes bytes(const Json& entry, const std::string& what) const {
    const auto offset = entry.at("offset").get<std::uint64_t>();
    const auto size = entry.at("bytes").get<std::uint64_t>();
    if (offset % 8 != 0 || offset > mapping_->bytes.size() || size > mapping_->bytes.size() - offset)
      throw Damage{fmt::format("{} lies outside of the file", what)};
    return {mapping_, mapping_->bytes.subspan(offset, size)};
  }

  Codes codes(const Json& entry, std::uint64_t count, std::uint64_t largest, const std::string& what) const {
    if (count > most_rows) throw Damage{fmt::format("{} has too many rows", what)};
    auto codes = Codes::view(bytes(entry, what), count, largest, entry.at("hash"), in_file(what));
    if (!codes) throw Damage{fmt::format("{} does not hold together", what)};
    return std::move(*codes);
  }

  static Value value(const Json& entry, Type type, const std::string& what) {
    if (entry.is_null()) return {};
    auto value = parse_value(entry.get<std::string>(), type);
    if (!value) throw Damage{fmt::format("{} does not hold together", what)};
    return std::move(*value);
  }

  std::shared_ptr<const Mapping> mapping_;
  std::string file_;
};

Result<std::shared_ptr<const Mapping>> map_file(const std::filesystem::path& path) {
  const auto failed = [&](int error) {
    return tl::unexpected(
        base::error("JR-602", fmt::format("cannot open the store {}: {}", path.string(), std::strerror(error))));
  };
  const int descriptor = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
  if (descriptor < 0) return failed(errno);
  struct stat status {};
  if (::fstat(descriptor, &status) != 0 || !S_ISREG(status.st_mode)) {
    const int error = S_ISREG(status.st_mode) ? errno : EISDIR;
    ::close(descriptor);
    return failed(error);
  }
  const auto size = static_cast<std::size_t>(status.st_size);
  void* const memory = size == 0 ? nullptr : ::mmap(nullptr, size, PROT_READ, MAP_PRIVATE, descriptor, 0);
  const int error = errno;
  ::close(descriptor);
  if (memory == MAP_FAILED) return failed(error);
  return std::make_shared<const Mapping>(std::span(static_cast<const std::byte*>(memory), size));
}

}  // namespace

Result<Store> open_store(const std::filesystem::path& path) {
  const auto mapping = map_file(path);
  if (!mapping) return tl::unexpected(mapping.error());
  const auto bad = [&](std::string code, const std::string& what) {
    return tl::unexpected(base::error(std::move(code), fmt::format("{}: {}", path.string(), what),
                                      "load it again from the model text: juniper load"));
  };
  const std::span<const std::byte> bytes = (*mapping)->bytes;
  Header header{};
  if (bytes.size() >= sizeof(header)) std::memcpy(&header, bytes.data(), sizeof(header));
  if (header.magic != magic) return bad("JR-603", "this is not a store file");
  if (header.version != format_version) {
    return bad("JR-604", fmt::format("this store has format version {}, and this program reads version {}",
                                     header.version, format_version));
  }
  if (header.header_hash != hash_of_header(header))
    return bad("JR-605", "the store is damaged: the checksum of its header differs");
  if (header.file_bytes != bytes.size()) {
    return bad("JR-603", fmt::format("the store is truncated: {} bytes of {}", bytes.size(), header.file_bytes));
  }
  if (header.directory_offset > bytes.size() || header.directory_bytes > bytes.size() - header.directory_offset ||
      hash_bytes(bytes.subspan(header.directory_offset, header.directory_bytes)) != header.directory_hash) {
    return bad("JR-605", "the store is damaged: the checksum of its directory differs");
  }
  try {
    return Reader(*mapping, path.filename().string()).store(header);
  } catch (const Damage& damage) {
    return bad("JR-605", "the store is damaged: " + damage.what);
  } catch (const Json::exception& e) {
    return bad("JR-605", fmt::format("the store is damaged: its directory cannot be read ({})", e.what()));
  }
}

std::uint64_t rejected_rows(const Store& store, const StoredTable& table) {
  std::uint64_t rows = 0;
  for (const source::SourceFile& source : store.sources) rows += source.table == table.name ? source.rejected : 0;
  return rows;
}

void verify(const Store& store, unsigned threads) {
  std::vector<const Column*> columns;
  for (const StoredTable& table : store.tables) {
    for (const StoredColumn& column : table.columns) columns.push_back(&column.data);
  }
  base::parallel_for(columns.size() + store.links.size(), threads, [&](std::size_t i) {
    if (i < columns.size()) {
      columns[i]->verify();
    } else {
      store.links[i - columns.size()].rows.verify();
    }
  });
}

}  // namespace juniper::store
