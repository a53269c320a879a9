#include "live/place.h"

namespace juniper::live {

std::unique_ptr<Place> open_place(const base::SourcePlace& place, const std::filesystem::path& folder) {
  switch (place.kind) {
    case base::SourceKind::sqlite:
      return open_sqlite(folder / place.pattern);
    case base::SourceKind::postgresql:
      return open_postgresql(place.pattern);
    case base::SourceKind::clickhouse:
      return open_clickhouse(place.pattern);
    case base::SourceKind::csv:
    case base::SourceKind::parquet:
    case base::SourceKind::arrow:
    case base::SourceKind::json:
    case base::SourceKind::xlsx:
    case base::SourceKind::ods:
    case base::SourceKind::odbc:
      break;  // the language has no live tables there
  }
  return nullptr;
}

}  // namespace juniper::live
