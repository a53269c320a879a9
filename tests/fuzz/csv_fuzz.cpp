// What reads CSV must survive any bytes, and see the same records however the file is cut: a target for libFuzzer. Run
// by scripts/fuzz.
#include <unistd.h>

#include <cstddef>
#include <cstdint>
#include <cstdlib>
#include <fstream>
#include <map>

#include "source/csv/records.h"
#include "source/source.h"
#include "store/column.h"

namespace {

using namespace juniper;
using namespace juniper::source;

// All records, the good and the bad ones, by line; or how the reading ended.
std::map<std::size_t, std::string> read_records(const std::string& path, std::size_t piece_bytes) {
  std::map<std::size_t, std::string> all;
  auto pieces = CsvPieces::open(path, piece_bytes);
  if (!pieces) return {{0, pieces.error()[0].code}};
  std::string buffer;
  std::string scratch;
  CsvRecords records;
  std::size_t width = 0;
  std::size_t line = 0;
  while (true) {
    const auto text = pieces->next(buffer, ',');
    if (!text) return {{0, text.error()[0].code}};
    if (text->empty()) return all;
    records.read(*text, ',', width);
    width = records.width();
    for (std::size_t row = 0; row < records.rows(); ++row) {
      std::string& record = all[line + records.line_of(row)];
      for (std::size_t i = 0; i < width; ++i) {
        const Field& field = records.field(row, i);
        record += field.is_null() ? "~" : std::string(records.text(field, scratch));
        record += '|';
      }
      (void)records.record(row);
    }
    for (const BadRecord& bad : records.bad_records()) all[line + bad.line] += bad.code;
    if (const auto& end = records.end()) {
      all[line + end->line] += end->code;
      return all;
    }
    line += records.lines();
  }
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const std::string path = "/dev/shm/juniper-csv-fuzz." + std::to_string(::getpid());
  std::ofstream(path, std::ios::binary).write(reinterpret_cast<const char*>(data), static_cast<std::streamsize>(size));
  const auto whole = read_records(path, 1 << 20);
  for (const std::size_t piece_bytes : {16U, 100U}) {
    if (read_records(path, piece_bytes) != whole) std::abort();
  }
  TableRequest request{"t", "/dev/shm", {base::SourceKind::csv, path.substr(9), {}, ',', {}}, {}};
  for (const TypeKind kind : {TypeKind::boolean, TypeKind::integer, TypeKind::decimal, TypeKind::real, TypeKind::text,
                              TypeKind::date, TypeKind::datetime, TypeKind::time}) {
    request.columns = {{"a", "a", {kind, static_cast<std::uint8_t>(kind == TypeKind::decimal ? 3 : 0)}}};
    ReadSettings settings;
    settings.threads = 1;
    auto table = read_table(request, {path}, settings);
    if (table) (void)store::encode_column(std::move(table->columns[0]));
    auto rejects = Rejects::open("/dev/null");
    settings.rejects = &*rejects;
    (void)read_table(request, {path}, settings);
  }
  return 0;
}
