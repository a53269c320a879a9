// The documents and the code tell the same.
#include <gtest/gtest.h>

#include <algorithm>
#include <set>

#include "support/support.h"

namespace juniper {
namespace {

namespace fs = std::filesystem;
const fs::path root = JUNIPER_SOURCE_DIR;

bool is_digit(char c) {
  return c >= '0' && c <= '9';
}

// Every JR- with three digits behind it.
std::set<std::string> codes_in(const std::string& text) {
  std::set<std::string> codes;
  for (std::size_t at = text.find("JR-"); at != std::string::npos; at = text.find("JR-", at + 1)) {
    const std::string code = text.substr(at, 6);
    if (code.size() == 6 && std::all_of(code.begin() + 3, code.end(), is_digit)) codes.insert(code);
  }
  return codes;
}

// The targets of a page's links, those to other places on the network and to parts of a page left out.
std::vector<std::string> links_in(const std::string& text) {
  std::vector<std::string> targets;
  for (std::size_t at = text.find("]("); at != std::string::npos; at = text.find("](", at + 1)) {
    const std::string target = text.substr(at + 2, text.find(')', at) - at - 2);
    if (target.find_first_of(":#") == std::string::npos) targets.push_back(target);
  }
  return targets;
}

TEST(Docs, EveryErrorCodeIsListedAndMade) {
  std::set<std::string> made;
  for (const char* folder : {"src", "demo"}) {
    for (const auto& entry : fs::recursive_directory_iterator(root / folder)) {
      if (entry.path().extension() == ".cpp") made.merge(codes_in(test::read_file(entry.path())));
    }
  }
  EXPECT_EQ(codes_in(test::read_file(root / "docs/errors.md")), made);
}

TEST(Docs, LinksLeadToFiles) {
  for (const char* name : {"README.md", "CONTRIBUTING.md", "docs/architecture.md", "docs/store.md", "docs/baseline.md",
                           "docs/language.md"}) {
    const std::string text = test::read_file(root / name);
    EXPECT_FALSE(text.empty()) << name;
    for (const std::string& target : links_in(text)) {
      EXPECT_TRUE(fs::exists((root / name).parent_path() / target)) << name << " links to " << target;
    }
  }
}

// The code block of a page that begins with some text.
std::string block_of(const std::string& page, const std::string& beginning) {
  const std::string text = test::read_file(root / page);
  const std::size_t begin = text.find("```\n" + beginning) + 4;
  return text.substr(begin, text.find("```", begin) - begin);
}

TEST(Docs, TheExamplesOfTheLanguageCheck) {
  for (const auto& [page, beginning] :
       {std::pair{"docs/language.md", "model \""}, std::pair{"README.md", "table sessions"}}) {
    const auto model = Model::parse("example.ridge", block_of(page, beginning));
    EXPECT_TRUE(model) << page << "\n" << test::messages(model.error());
  }
}

}  // namespace
}  // namespace juniper
