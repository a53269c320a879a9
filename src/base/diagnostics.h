// Making diagnostics.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "juniper/diagnostics.h"

namespace juniper::base {

// An error with no place in a text (a file that cannot be opened, say).
Diagnostics error(std::string code, std::string message, std::string suggestion = "");
// An error at a place; line and column may be 0.
Diagnostics error_at(std::string code, Place place, std::string message, std::string suggestion = "");

// The name among `candidates` nearest to `name` by edit distance, if one is near enough to be a slip of the
// fingers; "" otherwise.
std::string nearest_name(std::string_view name, const std::vector<std::string>& candidates);

// "did you mean 'x'?" or "" when x is empty.
std::string did_you_mean(std::string_view name, const std::vector<std::string>& candidates);

// The bytes that the first code points of valid UTF-8 take; all where there are no more.
std::size_t bytes_of(std::string_view text, std::size_t points);

// Code points in valid UTF-8.
std::size_t code_points(std::string_view text);

}  // namespace juniper::base
