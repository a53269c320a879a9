// What reads JSON, spreadsheets, SQLite and Arrow files must survive any bytes: a target for libFuzzer. The first byte says what
// the others are. Of spreadsheets the parts are given, as few changed archives could be opened. Run by scripts/fuzz.
#include <unistd.h>
#include <zip.h>

#include <cstddef>
#include <cstdint>
#include <fstream>
#include <string>

#include "base/failure.h"
#include "source/json/pieces.h"
#include "source/records/table.h"
#include "store/column.h"

namespace {

using namespace juniper;
using namespace juniper::source;

const std::string stem = "/dev/shm/juniper-records-fuzz." + std::to_string(::getpid());

std::string archive_of(const std::vector<std::pair<std::string, std::string>>& parts) {
  const std::string path = stem + ".zip";
  ::unlink(path.c_str());
  int error = 0;
  zip_t* const archive = zip_open(path.c_str(), ZIP_CREATE, &error);
  for (const auto& [name, text] : parts) {
    const auto index = zip_file_add(archive, name.c_str(), zip_source_buffer(archive, text.data(), text.size(), 0), 0);
    zip_set_file_compression(archive, static_cast<zip_uint64_t>(index), ZIP_CM_STORE, 0);
  }
  zip_close(archive);
  return path;
}

std::string xlsx_of(const std::string& sheet) {
  const std::string of = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";
  return archive_of(
      {{"_rels/.rels", "<R><Relationship Id='a' Type='" + of + "/officeDocument' Target='workbook.xml'/></R>"},
       {"workbook.xml", "<workbook><sheets><sheet name='One' id='s'/></sheets></workbook>"},
       {"_rels/workbook.xml.rels",
        "<R><Relationship Id='s' Type='" + of + "/worksheet' Target='s.xml'/><Relationship Id='t' Type='" + of +
            "/sharedStrings' Target='s.xml'/><Relationship Id='u' Type='" + of + "/styles' Target='s.xml'/></R>"},
       {"s.xml", sheet}});
}

void read(const std::string& path, base::SourcePlace place) {
  const auto kind = record_kind(place.kind);
  TableRequest request{"t", "/", std::move(place), {}};
  const auto columns =
      base::guarded([&]() -> Result<std::vector<RecordColumn>> { return kind->columns(request, path); });
  if (columns) {
    for (const RecordColumn& column : *columns) {
      if (request.columns.size() < 6) request.columns.push_back({"c", column.name, {TypeKind::text, 0}});
    }
  }
  for (const Type type :
       {Type{TypeKind::text, 0}, Type{TypeKind::decimal, 2}, Type{TypeKind::real, 0}, Type{TypeKind::datetime, 0}}) {
    for (ColumnRequest& column : request.columns) column.type = type;
    for (const bool rejected : {false, true}) {
      ReadSettings settings;
      settings.threads = 1;
      Rejects rejects = Rejects::counted();
      if (rejected) settings.rejects = &rejects;
      auto table = read_table(request, {path}, settings);
      if (!table) continue;
      for (ColumnInput& column : table->columns) (void)store::encode_column(std::move(column));
    }
  }
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size == 0) return 0;
  const std::string bytes(reinterpret_cast<const char*>(data) + 1, size - 1);
  const auto write = [&](const std::string& path) {
    std::ofstream(path, std::ios::binary).write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
    return path;
  };
  switch (data[0] % 6) {
    case 0:
      read(write(stem + ".json"), {base::SourceKind::json, "", {}, ',', {}});
      break;
    case 1:
      read(xlsx_of(bytes), {base::SourceKind::xlsx, "", {}, ',', {}});
      break;
    case 2:
      read(archive_of({{"content.xml", bytes}}), {base::SourceKind::ods, "", {}, ',', {}});
      break;
    case 3:
      read(write(stem + ".xlsx"), {base::SourceKind::xlsx, "", {}, ',', {}});
      break;
    case 5:
      read(write(stem + ".arrow"), {base::SourceKind::arrow, "", {}, ',', {}});
      break;
    default:
      read(write(stem + ".db"), {base::SourceKind::sqlite, "", {base::Selection::Kind::table, "t"}, ',', {}});
      break;
  }
  return 0;
}
