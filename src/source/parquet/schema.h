// The columns of a Parquet file: the leaves of its schema, under the names of the structures around them ("site.city"),
// and the type that each has here.
#pragma once

#include <string>
#include <vector>

#include "juniper/value.h"
#include "source/parquet/metadata.h"

namespace juniper::source::parquet {

struct Leaf {
  std::string name;
  std::size_t chunk = 0;  // which of a row group's column chunks it is
  SchemaElement element;
  // The definition level of a value that is there. Those below it are nulls: of the value, or of a structure around.
  unsigned full_level = 0;
  Type type;            // what its values are here
  std::string refusal;  // why it can't be read: "it is a list"; "" if it can
};

// Throws std::runtime_error for a schema that is none.
std::vector<Leaf> leaves_of(const FileData& file);

}  // namespace juniper::source::parquet
