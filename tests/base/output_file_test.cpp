// Outputs, which replace nothing that they did not write.
#include "base/output_file.h"

#include <gtest/gtest.h>
#include <sys/stat.h>

#include <filesystem>
#include <thread>
#include <vector>

#include "support/support.h"

namespace juniper::base::output_file_test {
namespace {

namespace fs = std::filesystem;

bool is_ours(std::string_view begin) {
  return begin.starts_with("ours");
}

TEST(OutputFile, ReplacesWhatIsItsOwnAndNothingElse) {
  const test::TempFolder folder;
  const std::string path = folder.path("out");
  ASSERT_TRUE(write_output(path, "ours 1", is_ours));
  ASSERT_EQ(::chmod(path.c_str(), 0600), 0);
  ASSERT_TRUE(write_output(path, "ours 2" + std::string(200'000, '.'), is_ours));
  EXPECT_EQ(test::read_file(path).size(), 200'006U);
  struct stat status {};
  ASSERT_EQ(::stat(path.c_str(), &status), 0);
  EXPECT_EQ(status.st_mode & 0777, 0600U);
  folder.write("out", "a person's");
  const auto refused = write_output(path, "ours 3", is_ours);
  EXPECT_EQ(test::codes(refused.error()), "JR-011");
  EXPECT_EQ(test::read_file(path), "a person's");
  folder.write("out", "");
  EXPECT_TRUE(write_output(path, "ours 4", is_ours));
  EXPECT_EQ(std::distance(fs::directory_iterator(folder.path()), fs::directory_iterator()), 1);
}

TEST(OutputFile, WhatIsNotFinishedLeavesAllAsItWas) {
  const test::TempFolder folder;
  const std::string path = folder.write("out", "ours");
  {
    auto file = OutputFile::open(path, is_ours, "JR-009");
    ASSERT_TRUE(file);
    file->write(std::string(300'000, 'x'));
  }
  EXPECT_EQ(test::read_file(path), "ours");
  EXPECT_EQ(std::distance(fs::directory_iterator(folder.path()), fs::directory_iterator()), 1);
}

// Each removes what killed ones left, and never what another is writing.
TEST(OutputFile, SeveralAtOnceAllEndWell) {
  const test::TempFolder folder;
  const std::string path = folder.path("out");
  std::vector<std::thread> writers;
  for (int w = 0; w < 4; ++w) {
    writers.emplace_back([&] {
      for (int turn = 0; turn < 100; ++turn) {
        const auto written = write_output(path, "ours", is_ours);
        EXPECT_TRUE(written) << test::messages(written.error());
      }
    });
  }
  for (std::thread& writer : writers) writer.join();
  EXPECT_EQ(test::read_file(path), "ours");
  EXPECT_EQ(std::distance(fs::directory_iterator(folder.path()), fs::directory_iterator()), 1);
}

TEST(OutputFile, LinksStayAndDevicesAreWrittenTo) {
  const test::TempFolder folder;
  fs::create_symlink("real", folder.path("link"));
  ASSERT_TRUE(write_output(folder.path("link"), "ours", is_ours));
  EXPECT_TRUE(fs::is_symlink(folder.path("link")));
  EXPECT_EQ(test::read_file(folder.path("real")), "ours");
  EXPECT_TRUE(write_output("/dev/null", "anything", is_ours));
  const auto full = write_output("/dev/full", "anything", is_ours);
  EXPECT_EQ(test::codes(full.error()), "JR-009");
  EXPECT_EQ(test::codes(write_output(folder.path("no/such"), "x", is_ours).error()), "JR-009");
}

}  // namespace
}  // namespace juniper::base::output_file_test
