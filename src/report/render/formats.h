// A document in each of its formats.
#pragma once

#include <string>

#include "juniper/document.h"

namespace juniper::render_formats {

// Whether a column is for `by`.
bool seen(const TableColumn& column, Audience by);
// A table may be for programs alone.
bool is_for_people(const Table& table);

std::string terminal(const Report& report, Color color);
std::string markdown(const Report& report);
std::string json(const Report& report);
std::string csv(const Report& report);

}  // namespace juniper::render_formats
