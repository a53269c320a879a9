// A shared library that is looked for when it is first needed: few users have what it reaches, and all would wait for it
// at every start.
#pragma once

#include <string>

namespace juniper::base {

class LoadedLibrary {
 public:
  // Stays loaded to the end of the program. `name` as the system's linker has it: "libpq.so.5".
  explicit LoadedLibrary(const char* name);

  // "" where it is there, and has all that was asked for; else what is missing.
  const std::string& problem() const { return problem_; }

  // A function by its name; nothing, and a problem, where it is not there.
  template <class Function>
  Function function(const char* name) {
    return reinterpret_cast<Function>(find(name));
  }

 private:
  void* find(const char* name);

  void* library_ = nullptr;
  std::string problem_;
};

}  // namespace juniper::base
