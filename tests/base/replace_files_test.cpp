// That no text is lost: all files of a change or none, with their modes, through links, by several at once.
#include "base/replace_files.h"
#include "base/files.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <map>
#include <thread>
#include <vector>

#include "support/support.h"

namespace juniper::base::replace_files_test {
namespace {

namespace fs = std::filesystem;

std::map<std::string, std::string> texts_in(const test::TempFolder& folder) {
  std::map<std::string, std::string> texts;
  for (const auto& entry : fs::directory_iterator(folder.path()))
    if (entry.is_regular_file()) texts.emplace(entry.path().filename(), test::read_file(entry.path()));
  return texts;
}

TEST(ReplaceFiles, AllOfThemOrNone) {
  const test::TempFolder folder;
  const std::string a = folder.write("a.ridge", "a1");
  const std::string b = folder.write("b.ridge", "b1");
  const std::vector<Replacement> both{{a, "a1", "a2"}, {b, "b1", "b2"}};
  ASSERT_TRUE(replace_files(both));
  EXPECT_EQ(texts_in(folder), (std::map<std::string, std::string>{{"a.ridge", "a2"}, {"b.ridge", "b2"}}));
  // Whichever holds something else, also one that would not change.
  const auto is = texts_in(folder);
  for (const std::vector<Replacement>& wrong :
       std::vector<std::vector<Replacement>>{{{a, "a2", "a3"}, {b, "b1", "b3"}},
                                             {{a, "a1", "a3"}, {b, "b2", "b3"}},
                                             {{a, "a2", "a3"}, {b, "b1", "b1"}}}) {
    EXPECT_EQ(test::codes(replace_files(wrong).error()), "JR-805");
    EXPECT_EQ(texts_in(folder), is);
  }
  EXPECT_EQ(test::codes(replace_files(std::vector<Replacement>{{a, "a2", "a3"}, {folder.path("no"), "", "x"}}).error()),
            "JR-806");
  EXPECT_EQ(texts_in(folder), is);
}

TEST(ReplaceFiles, ModesAndLinksStay) {
  const test::TempFolder folder;
  const std::string real = folder.write("real/m.ridge", "one");
  ASSERT_EQ(::chmod(real.c_str(), 0640), 0);
  const std::string link = folder.path("link.ridge");
  fs::create_symlink("real/m.ridge", link);
  // What others once wrote beside it, and where it led.
  const std::string foreign = folder.write("theirs", "precious");
  fs::create_symlink(foreign, folder.path("link.ridge.new"));
  fs::create_symlink(foreign, real + ".new");
  ASSERT_TRUE(replace_files(std::vector<Replacement>{{link, "one", "two"}}));
  EXPECT_TRUE(fs::is_symlink(link));
  EXPECT_EQ(test::read_file(real), "two");
  EXPECT_EQ(test::read_file(foreign), "precious");
  struct stat status {};
  ASSERT_EQ(::stat(real.c_str(), &status), 0);
  EXPECT_EQ(status.st_mode & 07777, 0640U);
}

TEST(ReplaceFiles, WhatIsNoPlainFileIsTold) {
  const test::TempFolder folder;
  const std::string pipe = folder.path("pipe");
  ASSERT_EQ(::mkfifo(pipe.c_str(), 0600), 0);
  for (const std::string& path : {pipe, folder.path(), std::string("/dev/zero"), folder.path("none")}) {
    EXPECT_FALSE(read_plain_file(path)) << path;
    EXPECT_EQ(test::codes(replace_files(std::vector<Replacement>{{path, "", "x"}}).error()), "JR-806") << path;
  }
}

TEST(ReplaceFiles, NoChangeOfSeveralWritersIsLost) {
  const test::TempFolder folder;
  const std::string a = folder.write("a", "0");
  const std::string b = folder.write("b", "0");
  constexpr int writers = 4;
  constexpr int turns = 25;
  std::vector<std::thread> threads;
  for (int w = 0; w < writers; ++w) {
    threads.emplace_back([&, w] {
      for (int done = 0; done < turns;) {
        const auto now_a = read_plain_file(a);
        const auto now_b = read_plain_file(b);
        ASSERT_TRUE(now_a && now_b);
        std::vector<Replacement> both{{a, *now_a, std::to_string(std::stoi(*now_a) + 1)},
                                      {b, *now_b, std::to_string(std::stoi(*now_b) + 1)}};
        if (w % 2 == 0) std::swap(both[0], both[1]);
        const auto replaced = replace_files(both);
        if (replaced) ++done;
        EXPECT_TRUE(replaced || test::codes(replaced.error()) == "JR-805") << test::messages(replaced.error());
      }
    });
  }
  for (std::thread& thread : threads) thread.join();
  EXPECT_EQ(texts_in(folder), (std::map<std::string, std::string>{{"a", "100"}, {"b", "100"}}));
}

TEST(ReplaceFiles, WhatKilledOnesLeftIsRemovedAndNothingElse) {
  const test::TempFolder folder;
  const std::string a = folder.write("a.ridge", "1");
  folder.write(".a.ridge.juniper-abcdefghijklmnop", "left");
  folder.write(".a.ridge.backup", "mine");
  const std::string held = folder.write(".a.ridge.juniper-qrstuvwxyz234567", "of one that is at work");
  const int descriptor = ::open(held.c_str(), O_RDONLY);
  ASSERT_EQ(::flock(descriptor, LOCK_EX), 0);
  ASSERT_TRUE(replace_files(std::vector<Replacement>{{a, "1", "2"}}));
  ::close(descriptor);
  EXPECT_EQ(texts_in(folder),
            (std::map<std::string, std::string>{{"a.ridge", "2"},
                                                {".a.ridge.backup", "mine"},
                                                {".a.ridge.juniper-qrstuvwxyz234567", "of one that is at work"}}));
}

}  // namespace
}  // namespace juniper::base::replace_files_test
