// Loads in which one call to the system fails, each in turn: writing, reading, syncing, renaming, opening, getting
// memory. This program puts its own functions before those of the C library, so that it stands apart from other tests.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <cstdarg>
#include <cstdlib>
#include <new>

#include "juniper/ask.h"
#include "juniper/dataset.h"
#include "support/support.h"

namespace {

enum class Fault { none, write, short_write, sync, rename, open, read, memory };

std::atomic<Fault> wanted{Fault::none};
std::atomic<long> calls_left{0};

// True for the one call that is to fail.
bool fails(Fault fault) {
  return wanted.load(std::memory_order_relaxed) == fault && calls_left.fetch_sub(1) == 1;
}

void* allocate(std::size_t bytes) {
  if (fails(Fault::memory)) throw std::bad_alloc();
  void* const memory = std::malloc(bytes == 0 ? 1 : bytes);
  if (memory == nullptr) throw std::bad_alloc();
  return memory;
}

}  // namespace

extern "C" ssize_t pwrite(int descriptor, const void* bytes, std::size_t count, off_t offset) {
  if (fails(Fault::write)) {
    errno = ENOSPC;
    return -1;
  }
  // A disk that is nearly full takes a part and refuses the rest.
  if (wanted == Fault::short_write && calls_left.fetch_sub(1) == 1 && count > 1) {
    wanted = Fault::write;
    calls_left = 1;
    count /= 2;
  }
  return syscall(SYS_pwrite64, descriptor, bytes, count, offset);
}
extern "C" ssize_t read(int descriptor, void* bytes, std::size_t count) {
  if (fails(Fault::read)) {
    errno = EIO;
    return -1;
  }
  return syscall(SYS_read, descriptor, bytes, count);
}
extern "C" int fsync(int descriptor) {
  if (fails(Fault::sync)) {
    errno = EIO;
    return -1;
  }
  return static_cast<int>(syscall(SYS_fsync, descriptor));
}
extern "C" int rename(const char* from, const char* to) noexcept {
  if (fails(Fault::rename)) {
    errno = EXDEV;
    return -1;
  }
  return static_cast<int>(syscall(SYS_rename, from, to));
}
extern "C" int open(const char* path, int flags, ...) {
  std::va_list more;
  va_start(more, flags);
  const int mode = (flags & O_CREAT) != 0 ? va_arg(more, int) : 0;
  va_end(more);
  if (fails(Fault::open)) {
    errno = EMFILE;
    return -1;
  }
  return static_cast<int>(syscall(SYS_openat, AT_FDCWD, path, flags, mode));
}

void* operator new(std::size_t bytes) {
  return allocate(bytes);
}
void* operator new[](std::size_t bytes) {
  return allocate(bytes);
}
void* operator new(std::size_t bytes, const std::nothrow_t&) noexcept {
  return fails(Fault::memory) ? nullptr : std::malloc(bytes == 0 ? 1 : bytes);
}
void operator delete(void* memory, const std::nothrow_t&) noexcept {
  std::free(memory);
}
void operator delete(void* memory) noexcept {
  std::free(memory);
}
void operator delete[](void* memory) noexcept {
  std::free(memory);
}
void operator delete(void* memory, std::size_t) noexcept {
  std::free(memory);
}
void operator delete[](void* memory, std::size_t) noexcept {
  std::free(memory);
}

namespace juniper {
namespace {

constexpr long every = test::is_sanitized ? 23 : 1;  // of the calls for memory, of which there are thousands

constexpr const char* model_text = R"(
table sessions from csv "data/s-*.csv" { key id integer  bay_id integer  kwh decimal(2)  channel text
  twice = kwh * 2  site = bays.site }
table bays from csv "data/bays.csv" { key bay_id integer  site text }
link sessions.bay_id -> bays.bay_id
measure total = sum(twice for sessions)
)";

class Faults : public testing::TestWithParam<Fault> {
 protected:
  Faults()
      : model_(model_text, {{"data/s-1.csv", "id,bay_id,kwh,channel\n1,7,1.50,app\n2,8,2.25,\n"},
                            {"data/bays.csv", "bay_id,site\n7,Mill\n9,Quay\n"}}) {}

  // What the store says on its own: "7.50" of the old data, "13.50" of the new.
  std::string answer() const {
    const auto dataset = Dataset::open(model_.folder.path("model.jrs"));
    return dataset ? test::answer(*dataset, "show total") : test::messages(dataset.error());
  }

  test::SmallModel model_;
};

TEST_P(Faults, ALoadThatMeetsOneLeavesAStoreThatOpens) {
  Options options;
  options.threads = 2;
  ASSERT_TRUE(load(model_.path(), options));
  const std::string old_store = test::read_file(model_.folder.path("model.jrs"));
  model_.folder.write("data/s-2.csv", "id,bay_id,kwh,channel\n3,7,3.00,card\n");
  const std::string path = model_.path();
  const long step = GetParam() == Fault::memory ? every : 1;
  long failed = 0;
  for (long call = 1;; call += step) {
    calls_left = call;
    wanted = GetParam();
    const auto loaded = load(path, options);
    wanted = Fault::none;
    const bool met = calls_left.load() <= 0;
    const std::string found = answer();
    if (loaded) {
      ASSERT_EQ(found, "13.50") << "call " << call;
    } else {
      ++failed;
      ASSERT_TRUE(found == "7.50" || found == "13.50") << "call " << call << ": " << found;
      ASSERT_FALSE(loaded.error().empty());
      for (const Diagnostic& error : loaded.error()) ASSERT_FALSE(error.message.empty() || error.code.empty());
    }
    for (const auto& entry : std::filesystem::directory_iterator(model_.folder.path()))
      ASSERT_NE(entry.path().extension(), ".new") << "call " << call << " left " << entry.path();
    if (!met) break;
    model_.folder.write("model.jrs", old_store);
  }
  EXPECT_GT(failed, 0);
  EXPECT_TRUE(GetParam() != Fault::memory || failed * step > 1000) << failed;
}

INSTANTIATE_TEST_SUITE_P(OfTheSystem, Faults,
                         testing::Values(Fault::write, Fault::short_write, Fault::sync, Fault::rename, Fault::open,
                                         Fault::read, Fault::memory));

}  // namespace
}  // namespace juniper
