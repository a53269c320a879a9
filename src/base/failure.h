// How the inside of the library gives up at once: a part of a store that turns out damaged while it is read, memory
// that is not there. The public functions turn what is thrown into diagnostics; nothing else catches it.
#pragma once

#include <exception>
#include <new>
#include <system_error>
#include <utility>

#include "base/diagnostics.h"
#include "base/mapped_file.h"

namespace juniper::base {

class Failure : public std::exception {
 public:
  explicit Failure(Diagnostics diagnostics) : diagnostics_(std::move(diagnostics)) {}
  const Diagnostics& diagnostics() const { return diagnostics_; }
  const char* what() const noexcept override {
    return diagnostics_.empty() ? "" : diagnostics_.front().message.c_str();
  }

 private:
  Diagnostics diagnostics_;
};

// JR-005: what the system did not give.
Diagnostics refused(const std::string& what);

// What `work` gives, a Result; or what it threw, as diagnostics: those of a Failure, or JR-005 when memory ran out. What
// was computed of a file that somebody changed meanwhile is not given.
template <class Work>
auto guarded(const Work& work) -> decltype(work()) {
  try {
    const FilesInUse files;
    auto result = work();
    files.fail_if_changed();
    return result;
  } catch (const Failure& failure) {
    return tl::unexpected(failure.diagnostics());
  } catch (const std::bad_alloc&) {
    return tl::unexpected(refused("no memory is left for this"));
  } catch (const std::system_error& failure) {
    return tl::unexpected(refused(failure.what()));
  }
}

}  // namespace juniper::base
