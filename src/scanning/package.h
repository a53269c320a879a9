// Frictionless Data Packages: https://specs.frictionlessdata.io/data-package/ (an open standard).
#pragma once

#include <filesystem>
#include <vector>

#include "scanning/found_table.h"

namespace juniper::scanning {

// The tables that the resources of a package are, with their declared texts, keys and foreign keys. Resources of formats
// that are not read here are passed over. Errors: JR-513 (the file is not such a description), JR-501 (a resource is not there).
Result<std::vector<TableFiles>> read_package(const std::filesystem::path& path);

// Whether a file is such a description: by its name, or as it has resources.
bool is_package(const std::filesystem::path& path);

}  // namespace juniper::scanning
