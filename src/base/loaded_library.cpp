#include "base/loaded_library.h"

#include <dlfcn.h>

namespace juniper::base {

namespace {

std::string last_problem() {
  const char* const problem = ::dlerror();
  return problem != nullptr ? problem : "it can't be loaded";
}

}  // namespace

LoadedLibrary::LoadedLibrary(const char* name) : library_(::dlopen(name, RTLD_NOW | RTLD_LOCAL)) {
  if (library_ == nullptr) problem_ = last_problem();
}

void* LoadedLibrary::find(const char* name) {
  if (library_ == nullptr) return nullptr;
  void* const function = ::dlsym(library_, name);
  if (function == nullptr && problem_.empty()) problem_ = last_problem();
  return function;
}

}  // namespace juniper::base
