// What the tests share: folders of their own, small models, and the tool as a process.
#pragma once

#include <gtest/gtest.h>

#include <csignal>
#include <filesystem>
#include <map>
#include <string>
#include <vector>

#include "juniper/ask.h"
#include "juniper/dataset.h"
#include "juniper/diagnostics.h"

namespace juniper::test {

// A folder that is gone at the end of the test.
class TempFolder {
 public:
  TempFolder();
  ~TempFolder();
  TempFolder(const TempFolder&) = delete;
  TempFolder& operator=(const TempFolder&) = delete;

  std::string path(const std::string& name = "") const { return (path_ / name).string(); }
  // Writes a file, with the folders on its way.
  std::string write(const std::string& name, const std::string& text) const;

 private:
  std::filesystem::path path_;
};

std::string read_file(const std::string& path);

// A model text with its CSV files, in a folder of its own.
class SmallModel {
 public:
  SmallModel(const std::string& text, const std::map<std::string, std::string>& files);
  std::string path() const { return folder.path("model.ridge"); }
  // The dataset; the test fails, with the messages, when it does not open.
  Dataset open(Options options = {}) const;
  // Errors of opening it.
  Diagnostics errors() const;

  TempFolder folder;
};

// The text of every message, for comparing and for showing.
std::string messages(const Diagnostics& diagnostics);
// The codes, in order: "JR-201 JR-202".
std::string codes(const Diagnostics& diagnostics);

// The rows of a query as text: cells joined by '|', null as "null", rows by '\n', totals marked by their level:
// "grand:".
std::string rows_of(const QueryResult& result);
// The same for a question; the messages when it fails.
std::string answer(const Dataset& dataset, const std::string& query, const std::vector<std::string>& where = {});

struct ProcessResult {
  int status = -1;
  std::string out;
  std::string err;
};
// The lines of a text, without their ends.
std::vector<std::string> lines_of(const std::string& text);
// Runs the tool with arguments that are given to it as they are.
ProcessResult run_tool(const std::vector<std::string>& arguments, const std::string& folder = "");

// Runs lines of a shell, with the tool known as `juniper`.
ProcessResult run_shell(const std::string& lines, const std::string& folder = "", const std::string& shell = "bash");

// Starts the tool and sends it a signal after some microseconds, if it still runs; gives its status, as waitpid(2) does.
int kill_tool(const std::vector<std::string>& arguments, unsigned microseconds, int signal = SIGKILL,
              const std::string& folder = "");

// A number from the environment's JUNIPER_SEED, or `seed`; tests print it, so that a failure can be repeated.
std::uint64_t test_seed(std::uint64_t seed);
// True under a sanitizer, which looks at how an answer is found and takes five to twenty times as long: tests of many
// cases try a part of them.
#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
constexpr bool is_sanitized = true;
#else
constexpr bool is_sanitized = false;
#endif

// How many random cases to try: a number from the environment's JUNIPER_QUERIES, or `count`, or a fifth of it under a
// sanitizer.
std::size_t test_count(std::size_t count);

}  // namespace juniper::test
