// Loads, changes of several texts, baselines and other outputs, in which one call to the system fails, each in turn and on
// each thread: writing, reading, syncing, renaming, opening, getting memory. This program puts its own functions before
// those of the C library, so that it stands apart from other tests.
//
// Which thread does what depends on the machine. So that each thread meets each call, the thread that is to fail is
// given a start before the one that began it; and after the fault, others get their turn wherever it lets go of a lock
// while what was thrown is on its way: what it left half made there, they meet.
#include <dlfcn.h>
#include <fcntl.h>
#include <gtest/gtest.h>
#include <pthread.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <chrono>
#include <cstdarg>
#include <cstdlib>
#include <exception>
#include <functional>
#include <memory>
#include <new>
#include <set>
#include <thread>

#include "juniper/ask.h"
#include "juniper/audit.h"
#include "juniper/baseline.h"
#include "juniper/dataset.h"
#include "juniper/explain.h"
#include "juniper/links.h"
#include "juniper/refactor.h"
#include "juniper/report.h"
#include "juniper/scan.h"
#include "juniper/weigh.h"
#include "support/support.h"

namespace {

enum class Fault { none, write, short_write, sync, rename, open, read, memory };

// What is to fail: one call, counted from 1, on one thread, counted from 0 in the order in which they begin.
struct Aim {
  std::atomic<Fault> fault{Fault::none};
  std::atomic<int> thread{0};
  std::atomic<long> call{0};
  std::atomic<long> round{0};  // goes on with each load, so that threads count anew
  std::atomic<int> threads_begun{0};
  std::atomic<bool> met{false};
  std::atomic<bool> disk_is_full{false};
} aim;

struct ThisThread {
  int number = -1;
  long round = 0;
  long calls = 0;
  bool has_failed = false;
};
thread_local ThisThread here;

// True for the one call that is to fail.
bool fails(Fault fault) {
  if (aim.fault.load(std::memory_order_relaxed) != fault) return false;
  if (here.round != aim.round.load(std::memory_order_relaxed)) here = {here.number, aim.round.load(), 0, false};
  if (here.number < 0) here.number = ++aim.threads_begun;  // where its beginning was not seen
  if (here.number != aim.thread.load(std::memory_order_relaxed)) return false;
  if (++here.calls != aim.call.load(std::memory_order_relaxed)) return false;
  here.has_failed = true;
  aim.met = true;
  return true;
}

void* allocate(std::size_t bytes) {
  if (fails(Fault::memory)) throw std::bad_alloc();
  void* const memory = std::malloc(bytes == 0 ? 1 : bytes);
  if (memory == nullptr) throw std::bad_alloc();
  return memory;
}

constexpr auto a_while = std::chrono::microseconds(500);

}  // namespace

// The sanitizers have their own of these two.
#if !defined(__SANITIZE_ADDRESS__) && !defined(__SANITIZE_THREAD__)
namespace {

template <class Function>
Function* next_after_this(const char* name) {
  return reinterpret_cast<Function*>(::dlsym(RTLD_NEXT, name));
}

struct Begun {
  void* (*run)(void*);
  void* argument;
  int number;
};

void* begin_thread(void* begun) {
  const Begun thread = *static_cast<Begun*>(begun);
  std::free(begun);
  here.number = thread.number;
  return thread.run(thread.argument);
}

}  // namespace

extern "C" int pthread_create(pthread_t* thread, const pthread_attr_t* attributes, void* (*run)(void*),
                              void* argument) noexcept {
  static auto* const system = next_after_this<decltype(pthread_create)>("pthread_create");
  if (aim.fault == Fault::none) return system(thread, attributes, run, argument);
  auto* const begun = static_cast<Begun*>(std::malloc(sizeof(Begun)));
  *begun = {run, argument, ++aim.threads_begun};
  const bool is_aimed_at = begun->number == aim.thread;
  const int result = system(thread, attributes, &begin_thread, begun);
  if (is_aimed_at) std::this_thread::sleep_for(a_while);
  return result;
}

extern "C" int pthread_mutex_unlock(pthread_mutex_t* mutex) noexcept {
  static auto* const system = next_after_this<decltype(pthread_mutex_unlock)>("pthread_mutex_unlock");
  const int result = system(mutex);
  if (here.has_failed && std::uncaught_exceptions() > 0) std::this_thread::sleep_for(a_while);
  return result;
}
#endif

// How many of so many bytes the disk takes; below 0 where it refuses them. One that is nearly full takes a part, and
// refuses the rest.
static ssize_t bytes_taken(std::size_t count) {
  if (fails(Fault::write) || aim.disk_is_full) {
    errno = ENOSPC;
    return -1;
  }
  if (!fails(Fault::short_write) || count <= 1) return static_cast<ssize_t>(count);
  aim.disk_is_full = true;
  return static_cast<ssize_t>(count / 2);
}
extern "C" ssize_t pwrite(int descriptor, const void* bytes, std::size_t count, off_t offset) {
  const ssize_t taken = bytes_taken(count);
  return taken < 0 ? taken : syscall(SYS_pwrite64, descriptor, bytes, taken, offset);
}
extern "C" ssize_t write(int descriptor, const void* bytes, std::size_t count) {
  const ssize_t taken = bytes_taken(count);
  return taken < 0 ? taken : syscall(SYS_write, descriptor, bytes, taken);
}
extern "C" ssize_t pread(int descriptor, void* bytes, std::size_t count, off_t offset) {
  if (fails(Fault::read)) {
    errno = EIO;
    return -1;
  }
  return syscall(SYS_pread64, descriptor, bytes, count, offset);
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
extern "C" int renameat2(int from_folder, const char* from, int to_folder, const char* to, unsigned flags) noexcept {
  if (fails(Fault::rename)) {
    errno = EXDEV;
    return -1;
  }
  return static_cast<int>(syscall(SYS_renameat2, from_folder, from, to_folder, to, flags));
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

std::set<std::string> names_in(const test::TempFolder& folder) {
  std::set<std::string> names;
  for (const auto& entry : std::filesystem::directory_iterator(folder.path())) names.insert(entry.path().filename());
  return names;
}

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

  // What `work` gives while one call fails, which `aim.met` tells.
  template <class Work>
  static auto with_fault(int thread, long call, const Work& work) {
    here.number = 0;
    ++aim.round;
    aim.thread = thread;
    aim.call = call;
    aim.threads_begun = 0;
    aim.met = false;
    aim.fault = GetParam();
    auto result = work();
    aim.fault = Fault::none;
    aim.disk_is_full = false;
    return result;
  }

  // Loads while one call fails; false when there is no such call.
  bool load_with_fault(int thread, long call, const Options& options) {
    const std::string path = model_.path();
    const auto loaded = with_fault(thread, call, [&] { return load(path, options); });
    expect_old_or_new(loaded);
    return aim.met;
  }

  void expect_old_or_new(const Result<LoadReport>& loaded) {
    const std::string found = answer();
    if (loaded) {
      ASSERT_EQ(found, "13.50");
    } else {
      ++failed_;
      ASSERT_TRUE(found == "7.50" || found == "13.50") << found;
      ASSERT_FALSE(loaded.error().empty());
      for (const Diagnostic& error : loaded.error()) ASSERT_FALSE(error.message.empty() || error.code.empty());
    }
    ASSERT_EQ(names_in(model_.folder), (std::set<std::string>{"data", "model.jrs", "model.ridge"}));
  }

  test::SmallModel model_;
  long failed_ = 0;
};

TEST_P(Faults, ALoadThatMeetsOneLeavesAStoreThatOpens) {
  Options options;
  options.threads = 2;
  ASSERT_TRUE(load(model_.path(), options));
  const std::string old_store = test::read_file(model_.folder.path("model.jrs"));
  model_.folder.write("data/s-2.csv", "id,bay_id,kwh,channel\n3,7,3.00,card\n");
  const long step = GetParam() == Fault::memory ? every : 1;
  int threads_begun = 0;
  for (int thread = 0; thread <= threads_begun; ++thread) {
    for (long call = 1;; call += step) {
      const bool met = load_with_fault(thread, call, options);
      ASSERT_FALSE(HasFatalFailure()) << "thread " << thread << ", call " << call;
      threads_begun = std::max(threads_begun, aim.threads_begun.load());
      if (!met) break;
      model_.folder.write("model.jrs", old_store);
    }
    // The last load met no fault.
    model_.folder.write("model.jrs", old_store);
  }
  EXPECT_GT(failed_, 0);
  // Under the sanitizers only those threads are known that make such calls.
  EXPECT_TRUE(test::is_sanitized || threads_begun > 2) << threads_begun;
  EXPECT_TRUE(GetParam() != Fault::memory || failed_ * step > 1000) << failed_;
}

// A change of two texts: both are old, or both are new; nothing else is left there.
TEST_P(Faults, AChangeOfTwoTextsThatMeetsOneChangesBothOrNone) {
  const std::string first =
      "include \"more.ridge\"\ntable t from csv \"t.csv\" { key id integer  x integer\n  y = x + 1 }\n";
  const std::string more = "measure total = sum(y for t)\n";
  const test::SmallModel model(first, {{"t.csv", "id,x\n1,5\n2,6\n"}, {"more.ridge", more}});
  Options options;
  options.threads = 1;
  const auto dataset = Dataset::open(model.path(), options);
  ASSERT_TRUE(dataset);
  RefactorSettings settings;
  settings.most_probes = 1;
  const auto change = refactor(*dataset, "inline t.y", settings);
  ASSERT_TRUE(change && change->proved());
  ASSERT_EQ(change->texts.size(), 2U);
  const auto before = names_in(model.folder);
  long failed = 0;
  for (long call = 1;; ++call) {
    const auto written = with_fault(0, call, [&] { return write(*dataset, *change); });
    if (!written) ++failed;
    for (const TextChange& text : change->texts) {
      const std::string now = test::read_file(text.path);
      ASSERT_TRUE(now == text.after || (!written && now == text.before)) << "call " << call;
      ASSERT_EQ(now == text.after, test::read_file(change->texts[0].path) == change->texts[0].after) << "call " << call;
    }
    ASSERT_EQ(names_in(model.folder), before) << "call " << call;
    if (!aim.met) break;
    for (const TextChange& text : change->texts)
      model.folder.write(std::filesystem::path(text.path).filename(), text.before);
  }
  EXPECT_GT(failed, 0);
}

// A baseline that is recorded again is the old one or the new one, each whole; a file of somebody else in it stays.
TEST_P(Faults, ABaselineThatMeetsOneIsTheOldOrTheNew) {
  const std::string text = "table t from csv \"t.csv\" { key id integer  x integer }\nmeasure total = sum(x for t)\n";
  const std::string old_queries = "query a { show total }\nquery gone { show total }\n";
  const std::string new_queries = "query a { show total }\nquery b { by t.id show total }\n";
  const test::SmallModel model(text + old_queries, {{"t.csv", "id,x\n1,5\n2,6\n"}});
  Options options;
  options.threads = 1;
  const auto old_dataset = Dataset::open(model.path(), options);
  model.folder.write("model.ridge", text + new_queries);
  const auto new_dataset = Dataset::open(model.path(), options);
  ASSERT_TRUE(old_dataset && new_dataset);
  const std::string folder = model.folder.path("b");
  const auto passes = [&](const Dataset& dataset) {
    const auto report = check(dataset, folder);
    EXPECT_TRUE(report) << test::messages(report.error());
    // What is not recorded is told, and passes.
    return report && report->passed() &&
           std::none_of(report->queries.begin(), report->queries.end(),
                        [](const CheckedQuery& query) { return query.state == CheckState::added; });
  };
  BaselineSettings replacing;
  replacing.replace = true;
  ASSERT_TRUE(baseline(*old_dataset, folder));
  model.folder.write("b/README", "mine");
  const auto before = names_in(model.folder);
  const long step = GetParam() == Fault::memory ? 61 * every : 1;
  long failed = 0;
  for (long call = 1;; call += step) {
    const auto recorded = with_fault(0, call, [&] { return baseline(*new_dataset, folder, replacing); });
    const bool met = aim.met;
    if (!recorded) ++failed;
    ASSERT_TRUE(passes(*new_dataset) || (!recorded && passes(*old_dataset))) << "call " << call;
    ASSERT_EQ(test::read_file(model.folder.path("b/README")), "mine") << "call " << call;
    const auto again = baseline(*old_dataset, folder, replacing);
    ASSERT_TRUE(again) << "call " << call << test::messages(again.error());
    ASSERT_TRUE(passes(*old_dataset));
    ASSERT_EQ(names_in(model.folder), before) << "call " << call;
    if (!met) break;
  }
  EXPECT_GT(failed, 0);
}

// A file that is written for others, and a text that is proposed: the old one, or the new one.
TEST_P(Faults, AnOutputThatMeetsOneIsTheOldOrTheNew) {
  const test::TempFolder folder;
  const std::string sarif = folder.path("a.sarif");
  const Audit audited;
  ASSERT_TRUE(write_sarif(audited, sarif));
  const std::string first = test::read_file(sarif);
  Audit other = audited;
  other.findings.resize(3);
  const Scan proposed{"# a text\n", {}};
  const std::string text = folder.path("m.ridge");
  long failed = 0;
  for (long call = 1;; ++call) {
    const auto written = with_fault(0, call, [&] { return write_sarif(other, sarif); });
    bool met = aim.met;
    const auto is_new = with_fault(0, call, [&] { return write_new(proposed, text); });
    met = met || aim.met;
    failed += (written ? 0 : 1) + (is_new ? 0 : 1);
    ASSERT_TRUE(test::read_file(sarif) == to_sarif(other) || (!written && test::read_file(sarif) == first));
    std::set<std::string> expected{"a.sarif"};
    if (is_new) expected.insert("m.ridge");
    ASSERT_EQ(names_in(folder), expected) << "call " << call;
    if (!met) break;
    folder.write("a.sarif", first);
    std::filesystem::remove(text);
  }
  EXPECT_TRUE(failed > 0 || GetParam() == Fault::read);
}

// What is printed is whole, or the lack of memory is thrown.
TEST_P(Faults, ADocumentIsWholeOrThrows) {
  if (GetParam() != Fault::memory) return;
  Options options;
  options.threads = 1;
  const auto dataset = Dataset::open(model_.path(), options);
  ASSERT_TRUE(dataset);
  const auto answered = ask(*dataset, {"by sessions.channel, bays.site show total total sessions.channel, grand"});
  const auto found = audit(*dataset);
  const auto explained = explain(*dataset, {"by sessions.channel show total"});
  const auto link_uses = links(*dataset);
  ASSERT_TRUE(answered && found && explained && link_uses);
  const Weighing weighing = weigh(*dataset).value();
  for (const Format format : {Format::terminal, Format::json, Format::csv, Format::markdown}) {
    const RenderOptions as{format, Color::on};
    const std::vector<std::function<std::string()>> documents{
        [&] { return render(report(*answered), as); },  [&] { return render(report(*found), as); },
        [&] { return render(report(*explained), as); }, [&] { return render(report(*link_uses), as); },
        [&] { return render(report(weighing), as); },   [&] { return to_sarif(*found); }};
    for (const auto& document : documents) {
      const std::string whole = document();
      for (long call = 1;; ++call) {
        const std::string text = with_fault(0, call, [&]() -> std::string {
          try {
            return document();
          } catch (const std::bad_alloc&) {
            return "";
          }
        });
        ASSERT_TRUE(text == whole || (aim.met && text.empty()));
        if (!aim.met) break;
      }
    }
  }
}

INSTANTIATE_TEST_SUITE_P(OfTheSystem, Faults,
                         testing::Values(Fault::write, Fault::short_write, Fault::sync, Fault::rename, Fault::open,
                                         Fault::read, Fault::memory));

}  // namespace
}  // namespace juniper
