#include "engine/asked/watch.h"

#include <fmt/format.h>
#include <malloc.h>
#include <unistd.h>

#include <algorithm>
#include <fstream>

#include "base/failure.h"
#include "base/format.h"
#include "base/mapped_memory.h"

namespace juniper::engine {

namespace {

// What has been allocated. Under allocators that don't count for glibc, as those of sanitizers: what the process holds
// in memory beside files that it has mapped (proc(5), statm: the second number less the third).
std::uint64_t allocated_bytes() {
  const struct mallinfo2 counted = ::mallinfo2();
  if (counted.uordblks + counted.hblkhd != 0) return counted.uordblks + counted.hblkhd + base::mapped_bytes();
  std::ifstream file("/proc/self/statm");
  std::uint64_t all = 0;
  std::uint64_t resident = 0;
  std::uint64_t shared = 0;
  file >> all >> resident >> shared;
  return (resident - shared) * static_cast<std::uint64_t>(::sysconf(_SC_PAGESIZE));
}

}  // namespace

Watch::Watch(const Options& options)
    : options_(options), memory_at_begin_(options.memory != 0 ? allocated_bytes() : 0) {}

void Watch::check() const {
  if (options_.cancelled && *options_.cancelled)
    throw base::Failure(base::error("JR-707", "this was called off before it was done"));
  if (options_.memory == 0) return;
  const std::uint64_t now = allocated_bytes();
  const std::uint64_t taken = now - std::min(now, memory_at_begin_);
  if (taken <= options_.memory) return;
  throw base::Failure(
      base::error("JR-708",
                  fmt::format("answering this takes {}, more than the {} that it may", base::format_bytes(taken),
                              base::format_bytes(options_.memory)),
                  "group by fewer or coarser columns, narrow the rows by --where, or allow more by --memory"));
}

void Watch::report(const std::string& table, std::uint64_t done, std::uint64_t total) const {
  if (!options_.progress || std::this_thread::get_id() != asking_) return;
  if (std::chrono::steady_clock::now() - begin_ < std::chrono::seconds(1)) return;
  Progress progress;
  progress.step = "scanning " + table;
  progress.rows = done;
  progress.done = done;
  progress.total = total;
  progress.counts_rows = true;
  options_.progress(progress);
}

}  // namespace juniper::engine
