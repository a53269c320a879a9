// That a folder changes as a whole, and that nothing of somebody else's in it is lost.
#include "base/replace_folder.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <atomic>
#include <sstream>
#include <thread>

#include "base/descriptor.h"
#include "support/support.h"

namespace juniper::base::replace_folder_test {
namespace {

namespace fs = std::filesystem;

using Texts = std::map<std::string, std::string>;

// Its first file is the list of the others.
FolderFiles of(const Texts& texts) {
  FolderFiles files{texts, "list"};
  std::string& list = files.texts["list"];
  for (const auto& [name, text] : texts) list += name + "\n";
  return files;
}

std::optional<std::set<std::string>> listed(const fs::path& folder) {
  std::istringstream list(fs::exists(folder / "list") ? test::read_file(folder / "list") : "");
  std::set<std::string> names;
  for (std::string name; std::getline(list, name);) names.insert(name);
  return names;
}

Result<void> replace(const std::string& path, const Texts& texts) {
  return replace_folder(
      path, of(texts), listed, [](const fs::path&) { return true; }, "JR-901");
}

Texts texts_in(const fs::path& folder) {
  Texts texts;
  for (const auto& entry : fs::recursive_directory_iterator(folder)) {
    if (entry.is_regular_file() && entry.path().filename() != "list")
      texts.emplace(entry.path().lexically_relative(folder), test::read_file(entry.path()));
  }
  return texts;
}

TEST(ReplaceFolder, NothingOfSomebodyElseIsLost) {
  const test::TempFolder folder;
  const std::string path = folder.path("over/b");
  ASSERT_TRUE(replace(path, {{"a", "1"}, {"more/b", "2"}}));
  EXPECT_EQ(texts_in(path), (Texts{{"a", "1"}, {"more/b", "2"}}));
  folder.write("over/b/README", "mine");
  folder.write("over/b/more/notes", "mine, too");
  folder.write("over/b/own/deep/file", "and this");
  fs::create_symlink("README", folder.path("over/b/link"));
  ASSERT_EQ(::chmod(path.c_str(), 0750), 0);
  ASSERT_TRUE(replace(path, {{"a", "3"}, {"c", "4"}}));
  EXPECT_EQ(texts_in(path), (Texts{{"README", "mine"},
                                   {"a", "3"},
                                   {"c", "4"},
                                   {"link", "mine"},
                                   {"more/notes", "mine, too"},
                                   {"own/deep/file", "and this"}}));
  EXPECT_TRUE(fs::is_symlink(folder.path("over/b/link")));
  struct stat status {};
  ASSERT_EQ(::stat(path.c_str(), &status), 0);
  EXPECT_EQ(status.st_mode & 07777, 0750U);
  EXPECT_EQ(std::distance(fs::directory_iterator(folder.path("over")), fs::directory_iterator()), 1);
}

TEST(ReplaceFolder, WhatIsNotListedIsNotReplaced) {
  const test::TempFolder folder;
  const std::string path = folder.path("b");
  ASSERT_TRUE(replace(path, {{"a", "1"}}));
  folder.write("b/c", "mine");
  EXPECT_EQ(test::codes(replace(path, {{"a", "2"}, {"c", "3"}}).error()), "JR-901");
  EXPECT_EQ(texts_in(path), (Texts{{"a", "1"}, {"c", "mine"}}));
}

TEST(ReplaceFolder, ALinkStaysAndLeadsToTheNewOne) {
  const test::TempFolder folder;
  ASSERT_TRUE(replace(folder.path("real"), {{"a", "1"}}));
  fs::create_directory_symlink("real", folder.path("link"));
  ASSERT_TRUE(replace(folder.path("link"), {{"a", "2"}}));
  EXPECT_TRUE(fs::is_symlink(folder.path("link")));
  EXPECT_EQ(texts_in(folder.path("real")), (Texts{{"a", "2"}}));
}

TEST(ReplaceFolder, WhatFailsLeavesAllAsItWas) {
  const test::TempFolder folder;
  const std::string path = folder.path("b");
  ASSERT_TRUE(replace(path, {{"a", "1"}}));
  const std::string too_long(300, 'x');
  EXPECT_EQ(test::codes(replace(path, {{"a", "2"}, {too_long, ""}}).error()), "JR-901");
  EXPECT_EQ(test::codes(replace_folder(
                            path, of({{"a", "2"}}), listed, [](const fs::path&) { return false; }, "JR-901")
                            .error()),
            "JR-910");
  EXPECT_EQ(test::codes(replace(folder.write("file", "x"), {{"a", "2"}}).error()), "JR-901");
  EXPECT_EQ(texts_in(folder.path()), (Texts{{"b/a", "1"}, {"file", "x"}}));
}

// A new folder that was not finished, and an old one that had given its place away: both as a kill leaves them.
TEST(ReplaceFolder, WhatWasKilledIsSettledByTheNextOne) {
  const test::TempFolder folder;
  const std::string path = folder.path("b");
  ASSERT_TRUE(replace(path, {{"a", "1"}}));
  folder.write("b/mine", "of today");
  folder.write(".b.juniper-aaaaaaaaaaaaaaaa/list", "a\nx/y\n");
  folder.write(".b.juniper-aaaaaaaaaaaaaaaa/x/y", "new");
  folder.write(".b.juniper-bbbbbbbbbbbbbbbb/list", "a\n");
  folder.write(".b.juniper-bbbbbbbbbbbbbbbb/a", "0");
  folder.write(".b.juniper-bbbbbbbbbbbbbbbb/saved/late", "mine");
  const std::string stale = folder.write(".b.juniper-bbbbbbbbbbbbbbbb/mine", "of yesterday");
  fs::last_write_time(stale, fs::file_time_type::clock::now() - std::chrono::hours(24));
  // One that somebody works on now.
  folder.write(".b.juniper-cccccccccccccccc/list", "");
  const Descriptor working(::open(folder.path(".b.juniper-cccccccccccccccc").c_str(), O_RDONLY | O_DIRECTORY));
  ASSERT_EQ(::flock(working.number(), LOCK_EX), 0);
  ASSERT_TRUE(replace(path, {{"a", "2"}}));
  EXPECT_EQ(texts_in(path), (Texts{{"a", "2"}, {"mine", "of today"}, {"saved/late", "mine"}}));
  EXPECT_FALSE(fs::exists(folder.path(".b.juniper-aaaaaaaaaaaaaaaa")));
  EXPECT_FALSE(fs::exists(folder.path(".b.juniper-bbbbbbbbbbbbbbbb")));
  EXPECT_TRUE(fs::exists(folder.path(".b.juniper-cccccccccccccccc/list")));
}

// Each reader sees one writer's files, all of them; and who compares with what was read loses nothing.
TEST(ReplaceFolder, SeveralWritersAndAReader) {
  const test::TempFolder folder;
  const std::string path = folder.path("b");
  const auto numbered = [](int number) {
    Texts texts;
    for (const char* const name : {"a", "b", "c/d"}) texts.emplace(name, std::to_string(number));
    return texts;
  };
  ASSERT_TRUE(replace(path, numbered(0)));
  folder.write("b/mine", "mine");
  constexpr int turns = 15;
  std::atomic<int> writing{3};
  std::vector<std::thread> writers;
  for (int w = 0; w < 3; ++w) {
    writers.emplace_back([&] {
      for (int done = 0; done < turns;) {
        const std::string now = [&] {
          const Descriptor held = hold_folder(path);
          return test::read_file(path + "/a");
        }();
        const auto is_as_read = [&](const fs::path& at) { return test::read_file(at / "a") == now; };
        const auto replaced = replace_folder(path, of(numbered(std::stoi(now) + 1)), listed, is_as_read, "JR-901");
        if (replaced) ++done;
        EXPECT_TRUE(replaced || test::codes(replaced.error()) == "JR-910") << test::messages(replaced.error());
      }
      --writing;
    });
  }
  while (writing > 0) {
    const Descriptor held = hold_folder(path);
    ASSERT_GE(held.number(), 0);
    Texts seen = texts_in(path);
    EXPECT_EQ(seen["mine"], "mine");
    EXPECT_EQ(seen["a"], seen["b"]);
    EXPECT_EQ(seen["a"], seen["c/d"]);
  }
  for (std::thread& writer : writers) writer.join();
  Texts all = numbered(3 * turns);
  all.emplace("mine", "mine");
  EXPECT_EQ(texts_in(path), all);
}

}  // namespace
}  // namespace juniper::base::replace_folder_test
