// What reads Parquet must survive any bytes: a target for libFuzzer. Run by scripts/fuzz.
#include <unistd.h>

#include <cstddef>
#include <cstdint>
#include <fstream>
#include <string>

#include "source/parquet/table.h"
#include "store/column.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace juniper;
  using namespace juniper::source;
  static const std::string path = "/dev/shm/juniper-parquet-fuzz." + std::to_string(::getpid());
  std::ofstream(path, std::ios::binary).write(reinterpret_cast<const char*>(data), static_cast<std::streamsize>(size));
  const auto columns = parquet_columns(path);
  if (!columns) return 0;
  TableRequest request{"t", "/dev/shm", {base::SourceKind::parquet, path.substr(9), {}, ',', {}}, {}};
  ReadSettings settings;
  settings.threads = 1;
  const auto read = [&] {
    auto table = read_table(request, {path}, settings);
    if (!table) return;
    for (ColumnInput& column : table->columns) (void)store::encode_column(std::move(column));
  };
  // Each alone, so that one that is damaged hides no other; all of them with rows left out; and as other types.
  for (const ParquetColumn& column : *columns) {
    for (const Type type :
         {column.type, Type{TypeKind::text, 0}, Type{TypeKind::decimal, 2}, Type{TypeKind::real, 0}}) {
      request.columns = {{"c", column.name, type}};
      read();
    }
  }
  request.columns.clear();
  for (const ParquetColumn& column : *columns) request.columns.push_back({"c", column.name, column.type});
  auto rejects = Rejects::open("/dev/null");
  settings.rejects = &*rejects;
  read();
  return 0;
}
