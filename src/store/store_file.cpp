#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <cerrno>
#include <cstdio>
#include <map>
#include <mutex>
#include <tuple>

#include "base/beside.h"
#include "base/diagnostics.h"
#include "base/exact.h"
#include "base/mapped_file.h"
#include "base/parallel.h"
#include "store/directory.h"
#include "store/store.h"

namespace juniper::store {

namespace {

constexpr std::array<char, 8> magic{'J', 'R', 'S', 'T', 'O', 'R', 'E', '\n'};
constexpr std::uint32_t format_version = 8;

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

// A file beside the one whose place it takes, that is removed unless it was renamed.
class NewFile {
 public:
  explicit NewFile(const std::filesystem::path& target)
      : file_(std::make_shared<base::OpenFile>(base::OpenFile::Beside{target})) {
    if (file_->descriptor() < 0) error_ = file_->error();
    // Who may read it is as before.
    struct stat status {};
    if (error_ == 0 && ::stat(target.c_str(), &status) == 0 && S_ISREG(status.st_mode) &&
        ::fchmod(file_->descriptor(), status.st_mode & 0777) != 0)
      error_ = errno;
  }
  ~NewFile() {
    if (!kept_ && file_->descriptor() >= 0) ::unlink(file_->path().c_str());
  }
  NewFile(const NewFile&) = delete;
  NewFile& operator=(const NewFile&) = delete;

  // From any thread. After the first error nothing is written any more.
  void write(std::span<const std::byte> bytes, std::uint64_t at) {
    while (error_ == 0 && !bytes.empty()) {
      const ssize_t written = ::pwrite(file_->descriptor(), bytes.data(), bytes.size(), static_cast<off_t>(at));
      if (written < 0 && errno == EINTR) continue;
      if (written < 0) {
        error_ = errno;
      } else {
        bytes = bytes.subspan(static_cast<std::size_t>(written));
        at += static_cast<std::uint64_t>(written);
      }
    }
  }
  // Asks the system to begin with the disk, so that there is less to wait for in the end.
  void begin_sync(std::uint64_t at, std::uint64_t bytes) const {
    ::sync_file_range(file_->descriptor(), static_cast<off_t>(at), static_cast<off_t>(bytes), SYNC_FILE_RANGE_WRITE);
  }
  void sync_and_rename(const std::filesystem::path& target) {
    if (error_ == 0 && ::fsync(file_->descriptor()) != 0) error_ = errno;
    if (error_ == 0 && ::rename(file_->path().c_str(), target.c_str()) != 0) error_ = errno;
    if (error_ != 0) return;
    kept_ = true;
    file_->has_its_place();
    file_->expect_as_it_is();
    // The rename itself is durable once the folder is synced.
    const auto folder = target.has_parent_path() ? target.parent_path() : std::filesystem::path(".");
    if (const int directory = ::open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC); directory >= 0) {
      ::fsync(directory);
      ::close(directory);
    }
  }
  // What was written there, as it stands in the file; nothing after an error, or where the system does not map it.
  std::optional<Bytes> view(std::uint64_t at, std::uint64_t bytes) const {
    const std::uint64_t begin = at / page_bytes * page_bytes;
    if (error_ != 0) return std::nullopt;
    const auto mapped = base::MappedFile::map(file_, begin, at + bytes - begin);
    if (!mapped) return std::nullopt;
    return Bytes(mapped, mapped->bytes().subspan(at - begin));
  }
  // It stays where it is, and is gone with the last who holds it.
  void stay() {
    kept_ = true;
    file_->expect_as_it_is();
    file_->remove_in_the_end();
  }
  int error() const { return error_; }
  const std::shared_ptr<base::OpenFile>& file() const { return file_; }

 private:
  static constexpr std::uint64_t page_bytes = std::uint64_t{1} << 16;  // a multiple of every system's
  std::shared_ptr<base::OpenFile> file_;
  std::atomic<int> error_{0};
  bool kept_ = false;
};

}  // namespace

// The parts of a file, each written once.
class StoreWriter::Writer {
 public:
  explicit Writer(const std::filesystem::path& target) : file_(target) {}

  // Writes a part where the file is free, and gives its entry in the directory; at once for one that was written
  // before.
  PartEntry part(std::span<const std::byte> bytes, std::uint64_t hash) {
    PartEntry entry{0, bytes.size(), hash};
    {
      const std::lock_guard lock(mutex_);
      if (const auto known = written_.find(Part(bytes.data(), bytes.size(), hash)); known != written_.end())
        return known->second;
      entry.offset = end_;
      end_ = (end_ + bytes.size() + 7) / 8 * 8;
      part_bytes_ += bytes.size();
      written_.emplace(Part(bytes.data(), bytes.size(), hash), entry);
    }
    file_.write(bytes, entry.offset);
    file_.begin_sync(entry.offset, entry.bytes);
    return entry;
  }
  // Writes a part, and lets its memory go where it is large.
  template <class Written>
  void write_and_view(Written& to_write) {
    const PartEntry entry = part(to_write);
    if (entry.bytes < large_bytes) return;
    auto viewed = file_.view(entry.offset, entry.bytes);
    if (!viewed) return;
    const std::lock_guard lock(mutex_);
    written_.emplace(Part(viewed->view().data(), entry.bytes, entry.hash), entry);
    to_write.move_to(std::move(*viewed));
  }
  PartEntry part(const Codes& codes) { return part(codes.bytes().view(), codes.directory_hash()); }
  PartEntry part(const TextDictionary& texts) { return part(texts.bytes().view(), texts.directory_hash()); }
  PartEntry part(const std::string& text) {
    const auto bytes = std::as_bytes(std::span(text));
    return part(bytes, hash_bytes(bytes));
  }

  NewFile& file() { return file_; }
  std::uint64_t end() const { return end_; }
  std::uint64_t part_bytes() const { return part_bytes_; }

 private:
  static constexpr std::uint64_t large_bytes = std::uint64_t{1} << 16;
  NewFile file_;
  std::mutex mutex_;
  std::uint64_t end_ = sizeof(Header);  // of what is taken
  std::uint64_t part_bytes_ = 0;
  // Where a part stands in memory, its bytes and its hash: of two parts that begin at one place, one is empty or has gone.
  using Part = std::tuple<const std::byte*, std::uint64_t, std::uint64_t>;
  std::map<Part, PartEntry> written_;
};

namespace {

// Templates, as the writer is the store writer's own.
template <class Writer>
ColumnEntry column_entry(Writer& writer, const StoredColumn& column) {
  const Column& data = column.data;
  ColumnEntry entry;
  entry.name = column.name;
  entry.calculated = column.calculated ? 1 : 0;
  entry.evaluate_nanoseconds = column.evaluate_nanoseconds;
  entry.encode_nanoseconds = column.encode_nanoseconds;
  entry.broken = column.broken;
  entry.type = static_cast<std::uint64_t>(data.type.kind);
  entry.scale = data.type.scale;
  entry.layout = static_cast<std::uint64_t>(data.layout);
  entry.distinct = data.distinct;
  entry.nulls = data.nulls;
  entry.base = data.base;
  entry.step = data.step;
  entry.null_code = data.null_code;
  entry.least = to_text(data.least, data.type);
  entry.most = to_text(data.most, data.type);
  entry.encoding = data.encoding;
  entry.codes = writer.part(data.codes);
  if (data.has_dictionary() && data.type.kind == TypeKind::text) {
    entry.dictionary = writer.part(data.texts);
  } else if (data.has_dictionary()) {
    entry.smallest = data.numbers.smallest();
    entry.dictionary = writer.part(data.numbers.codes());
  }
  return entry;
}

// Writes all parts that are not yet written, and gives the directory of them.
template <class Writer>
Directory write_parts(Writer& writer, const Store& store) {
  Directory directory;
  directory.signature = store.signature;
  for (const StoredParameter& parameter : store.parameters)
    directory.parameters.push_back({parameter.name, parameter.value});
  directory.reads_today = store.today ? 1 : 0;
  directory.today = store.today.value_or(0);
  directory.load_nanoseconds = store.load_nanoseconds;
  for (const ModelText& text : store.model_texts) directory.model_texts.push_back({text.name, writer.part(text.text)});
  for (const StoredTable& table : store.tables) {
    TableEntry& entry = directory.tables.emplace_back();
    entry.name = table.name;
    entry.signature = table.signature;
    entry.rows = table.rows;
    entry.unreached_rows = table.unreached_rows;
    entry.source_bytes = table.source_bytes;
    entry.read_nanoseconds = table.read_nanoseconds;
    entry.encode_nanoseconds = table.encode_nanoseconds;
    entry.broken = table.broken;
    entry.order_asked = table.order_asked ? 1 : 0;
    entry.order = table.order;
    entry.order_saved_bytes = table.order_saved_bytes;
    entry.file_order = table.file_order;
    for (const StoredColumn& column : table.columns) entry.columns.push_back(column_entry(writer, column));
  }
  for (const StoredLink& link : store.links) {
    directory.links.push_back({link.name, link.table, link.column, static_cast<std::uint64_t>(link.form),
                               link.rows.size(), link.no_row, link.unmatched, link.resolve_nanoseconds, link.encoding,
                               link.broken, writer.part(link.rows)});
  }
  directory.sources = store.sources;
  return directory;
}

}  // namespace

StoreWriter::StoreWriter(std::filesystem::path path, Place place)
    : path_(base::where_links_lead(std::move(path))), place_(place) {
  // Two loads at once each write a file of their own; the last rename wins.
  base::remove_leftovers(path_);
  writer_ = std::make_unique<Writer>(path_);
}

StoreWriter::~StoreWriter() = default;

void StoreWriter::write_ahead(Column& column) {
  writer_->write_and_view(column.codes);
  if (!column.has_dictionary()) return;
  if (column.type.kind == TypeKind::text) {
    writer_->write_and_view(column.texts);
  } else {
    writer_->write_and_view(column.numbers.codes());
  }
}

void StoreWriter::write_ahead(Codes& codes) {
  writer_->write_and_view(codes);
}

Result<void> StoreWriter::finish(Store& store) {
  NewFile& file = writer_->file();
  store.overhead = {sizeof(Header), 0, 0, 0};
  for (const ModelText& text : store.model_texts) store.overhead.model_text += text.text.size();
  const std::vector<std::byte> directory = to_bytes(write_parts(*writer_, store));
  Header header{magic, format_version, 0, 0, 0, 0, 0, 0, 0};
  header.directory_offset = writer_->end();
  header.directory_bytes = store.overhead.directory = directory.size();
  header.directory_hash = hash_bytes(directory);
  file.write(directory, header.directory_offset);
  header.file_bytes = store.file_bytes = header.directory_offset + directory.size();
  header.header_hash = hash_of_header(header);
  file.write(std::as_bytes(std::span(&header, 1)), 0);
  store.overhead.padding = header.directory_offset - sizeof(Header) - writer_->part_bytes();
  if (place_ == Place::taken) file.sync_and_rename(path_);
  if (place_ == Place::beside && file.error() == 0) file.stay();
  store.file = file.file();
  if (file.error() != 0) {
    return tl::unexpected(
        base::error("JR-601", fmt::format("cannot write the store {}: {}", path_.string(), std::strerror(file.error())),
                    "free some space, or name another place with --store"));
  }
  return {};
}

bool begins_as_store(std::string_view first_bytes) {
  return first_bytes.starts_with(std::string_view(magic.data(), magic.size()));
}

Result<void> write_store(Store& store, const std::filesystem::path& path) {
  return StoreWriter(path).finish(store);
}

// --- opening --------------------------------------------------------------------------------------------------------

namespace {

// Thrown while a directory is read, with what is wrong; caught in open_store.
struct Damage {
  std::string what;
};

class Reader {
 public:
  Reader(std::shared_ptr<const base::MappedFile> mapping, std::string file)
      : mapping_(std::move(mapping)), file_(std::move(file)) {}

  StoredColumn column(const ColumnEntry& entry, const StoredTable& table) const {
    StoredColumn column;
    column.name = entry.name;
    column.calculated = entry.calculated != 0;
    column.evaluate_nanoseconds = entry.evaluate_nanoseconds;
    column.encode_nanoseconds = entry.encode_nanoseconds;
    column.broken = entry.broken;
    const std::string what = fmt::format("column {}.{}", table.name, column.name);
    const auto must = [&](bool good) {
      if (!good) throw Damage{what + " does not hold together"};
    };
    Column& data = column.data;
    must(entry.type <= static_cast<std::uint64_t>(TypeKind::time) && entry.scale <= 18 &&
         entry.layout <= static_cast<std::uint64_t>(Layout::bits));
    data.type = {static_cast<TypeKind>(entry.type), static_cast<std::uint8_t>(entry.scale)};
    must(entry.scale == 0 || data.type.kind == TypeKind::decimal);
    data.layout = static_cast<Layout>(entry.layout);
    data.rows = column.broken.empty() ? table.rows : 0;
    data.distinct = entry.distinct;
    data.nulls = entry.nulls;
    data.base = entry.base;
    data.step = entry.step;
    data.null_code = entry.null_code;
    if (data.distinct != 0) {
      data.least = value(entry.least, data.type, what);
      data.most = value(entry.most, data.type, what);
    }
    data.encoding = entry.encoding;
    const bool text = data.type.kind == TypeKind::text;
    const bool real = data.type.kind == TypeKind::real;
    // Rows are null or have a value, and there are no more values than those.
    must(data.nulls <= data.rows && data.distinct <= data.rows - data.nulls &&
         (data.distinct != 0) == (data.nulls != data.rows) && data.step != 0);
    must(compare(data.least, data.most) <= 0 && fits(data.least) && fits(data.most));
    // What the codes may be. Where nothing is null, no code says so.
    Allowed allowed{data.null_code - (data.nulls == 0 && data.null_code != 0 ? 1 : 0), false, data.nulls != 0};
    switch (data.layout) {
      case Layout::dictionary:
        must(data.null_code == data.distinct);
        break;
      case Layout::offset:
        must(!real && !text && (data.distinct == 0) == (data.null_code == 0) && data.distinct <= data.null_code);
        must(data.distinct == 0 || (data.least.exact() == data.base &&
                                    data.most.exact() - data.base == int128{data.step} * int128{data.null_code - 1}));
        break;
      case Layout::bits:
        must(real && data.null_code == null_bits);
        allowed.largest = null_bits;
        allowed.reals = true;
        break;
    }
    data.codes = codes(entry.codes, data.rows, allowed, what);
    if (!data.has_dictionary()) return column;
    const std::string dictionary = "the dictionary of " + what;
    if (text) {
      auto texts = TextDictionary::view(bytes(entry.dictionary, dictionary), data.distinct, entry.dictionary.hash,
                                        in_file(dictionary));
      must(texts.has_value());
      data.texts = std::move(*texts);
      return column;
    }
    const std::uint64_t smallest = data.distinct == 0 ? 0 : NumberDictionary::place_of(data.least);
    const std::uint64_t distance = data.distinct == 0 ? 0 : NumberDictionary::place_of(data.most) - smallest;
    must(entry.smallest == smallest);
    data.numbers = {codes(entry.dictionary, data.distinct, {distance}, dictionary), smallest, distance};
    return column;
  }

  StoredLink link(const LinkEntry& entry, const std::vector<StoredTable>& tables) const {
    StoredLink link;
    link.name = entry.name;
    link.table = entry.table;
    link.column = entry.column;
    if (entry.form > static_cast<std::uint64_t>(LinkForm::codes_are_rows) || link.table >= tables.size() ||
        link.column >= tables[link.table].columns.size())
      throw Damage{fmt::format("link {} does not hold together", link.name)};
    const Column& key = tables[link.table].columns[link.column].data;
    link.no_row = entry.no_row;
    link.unmatched = entry.unmatched;
    link.resolve_nanoseconds = entry.resolve_nanoseconds;
    link.encoding = entry.encoding;
    link.broken = entry.broken;
    link.form = static_cast<LinkForm>(entry.form);
    if (link.broken.empty() && !fits(link, key, entry.rows))
      throw Damage{fmt::format("link {} does not hold together", link.name)};
    // Where every row is said to lead somewhere, none may lead nowhere; but a code that no row has.
    const bool all_lead = link.unmatched == 0 && link.no_row != 0 && link.form == LinkForm::by_row;
    const std::uint64_t last = all_lead ? link.no_row - 1 : link.no_row;
    link.rows = codes(entry.codes, entry.rows, {last}, "link " + link.name);
    return link;
  }

  // Whether a link that has so many codes can be one over a column.
  static bool fits(const StoredLink& link, const Column& key, std::uint64_t codes) {
    if (link.unmatched > key.rows) return false;
    switch (link.form) {
      case LinkForm::by_row:
        return true;
      case LinkForm::by_code:
        return leads_by_code(key) && codes == key.null_code && link.unmatched >= key.nulls;
      case LinkForm::codes_are_rows:
        return may_be_rows(key, link.no_row) && codes == 0 && link.unmatched == key.nulls;
    }
    return false;
  }

  Store store(const Header& header) const {
    const auto read = read_directory(mapping_->bytes().subspan(header.directory_offset, header.directory_bytes));
    if (!read) throw Damage{"its directory cannot be read"};
    const Directory& directory = *read;
    Store store;
    store.signature = directory.signature;
    for (const ParameterEntry& parameter : directory.parameters)
      store.parameters.push_back({parameter.name, parameter.value});
    if (directory.reads_today != 0) store.today = directory.today;
    store.load_nanoseconds = directory.load_nanoseconds;
    store.sources = directory.sources;
    store.overhead = {sizeof(Header), header.directory_bytes, 0, 0};
    for (const ModelTextEntry& entry : directory.model_texts) {
      const Bytes part = bytes(entry.text, "the model text");
      if (hash_bytes(part.view()) != entry.text.hash) throw Damage{"the checksum of the model text differs"};
      store.model_texts.push_back(
          {entry.name, std::string(reinterpret_cast<const char*>(part.view().data()), part.size())});
      store.overhead.model_text += part.size();
    }
    std::uint64_t in_parts = 0;
    for (const TableEntry& entry : directory.tables) {
      StoredTable table;
      table.name = entry.name;
      table.signature = entry.signature;
      table.rows = entry.rows;
      table.unreached_rows = entry.unreached_rows;
      table.source_bytes = entry.source_bytes;
      table.read_nanoseconds = entry.read_nanoseconds;
      table.encode_nanoseconds = entry.encode_nanoseconds;
      table.broken = entry.broken;
      table.order_asked = entry.order_asked != 0;
      table.order = entry.order;
      table.order_saved_bytes = entry.order_saved_bytes;
      table.file_order = entry.file_order;
      if (table.file_order != no_column && table.file_order >= entry.columns.size())
        throw Damage{fmt::format("table {} does not hold together", table.name)};
      for (const ColumnEntry& c : entry.columns) {
        table.columns.push_back(column(c, table));
        in_parts += table.columns.back().data.bytes();
      }
      store.tables.push_back(std::move(table));
    }
    for (const LinkEntry& entry : directory.links) {
      store.links.push_back(link(entry, store.tables));
      in_parts += store.links.back().rows.bytes().size();
    }
    store.file_bytes = header.file_bytes;
    store.overhead.padding = header.file_bytes - in_parts - store.overhead.total();
    return store;
  }

 private:
  // Rows beyond this are no rows but damage; sums of them stay far from the end of 64 bits.
  static constexpr std::uint64_t most_rows = std::uint64_t{1} << 48;

  static bool fits(const Value& value) { return value.kind() != Value::Kind::exact || base::fits_int64(value.exact()); }

  std::string in_file(const std::string& what) const { return fmt::format("{} of {}", what, file_); }

  Bytes bytes(const PartEntry& entry, const std::string& what) const {
    const auto [offset, size, hash] = entry;
    if (offset % 8 != 0 || offset > mapping_->bytes().size() || size > mapping_->bytes().size() - offset)
      throw Damage{fmt::format("{} lies outside of the file", what)};
    return {mapping_, mapping_->bytes().subspan(offset, size)};
  }

  Codes codes(const PartEntry& entry, std::uint64_t count, Allowed allowed, const std::string& what) const {
    if (count > most_rows) throw Damage{fmt::format("{} has too many rows", what)};
    auto codes = Codes::view(bytes(entry, what), count, allowed, entry.hash, in_file(what));
    if (!codes) throw Damage{fmt::format("{} does not hold together", what)};
    return std::move(*codes);
  }

  static Value value(const std::string& text, Type type, const std::string& what) {
    auto value = parse_value(text, type);
    if (!value) throw Damage{fmt::format("{} does not hold together", what)};
    return std::move(*value);
  }

  std::shared_ptr<const base::MappedFile> mapping_;
  std::string file_;
};

struct WholeFile {
  std::shared_ptr<const base::OpenFile> file;
  std::shared_ptr<const base::MappedFile> mapped;
};

Result<WholeFile> map_file(const std::filesystem::path& path) {
  const auto failed = [&](int error) {
    return tl::unexpected(
        base::error("JR-602", fmt::format("cannot open the store {}: {}", path.string(), std::strerror(error))));
  };
  const auto file = std::make_shared<base::OpenFile>(path);
  if (file->descriptor() < 0) return failed(file->error());
  struct stat status {};
  if (::fstat(file->descriptor(), &status) != 0) return failed(errno);
  if (!S_ISREG(status.st_mode)) return failed(S_ISDIR(status.st_mode) ? EISDIR : EINVAL);
  file->expect_as_it_is();
  base::FilesInUse::add(file);
  auto mapped = base::MappedFile::map(file, 0, static_cast<std::size_t>(status.st_size));
  if (!mapped) return failed(errno);
  return WholeFile{file, std::move(mapped)};
}

}  // namespace

Result<Store> open_store(const std::filesystem::path& path) {
  const auto whole = map_file(path);
  if (!whole) return tl::unexpected(whole.error());
  const auto bad = [&](std::string code, const std::string& what) {
    return tl::unexpected(base::error(std::move(code), fmt::format("{}: {}", path.string(), what),
                                      "load it again from the model text: juniper load"));
  };
  const std::span<const std::byte> bytes = whole->mapped->bytes();
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
    return bad("JR-603", fmt::format("the store is not whole: it has {} bytes, and should have {}", bytes.size(),
                                     header.file_bytes));
  }
  if (header.directory_offset > bytes.size() || header.directory_bytes > bytes.size() - header.directory_offset ||
      hash_bytes(bytes.subspan(header.directory_offset, header.directory_bytes)) != header.directory_hash) {
    return bad("JR-605", "the store is damaged: the checksum of its directory differs");
  }
  try {
    Store store = Reader(whole->mapped, path.filename().string()).store(header);
    store.file = whole->file;
    return store;
  } catch (const Damage& damage) {
    return bad("JR-605", "the store is damaged: " + damage.what);
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
