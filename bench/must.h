// What a benchmark can't do without.
#pragma once

#include <cstdlib>
#include <iostream>
#include <type_traits>
#include <utility>

#include "juniper/diagnostics.h"

namespace bench {

// The value; or the end of the program, with the reasons.
template <class T>
T must(juniper::Result<T> result) {
  if (!result) {
    for (const juniper::Diagnostic& problem : result.error())
      std::cerr << problem.code << ": " << problem.message << "\n";
    std::exit(3);
  }
  if constexpr (!std::is_void_v<T>) return std::move(*result);
}

}  // namespace bench
