// The documents and the code tell the same.
#include <gtest/gtest.h>

#include <regex>
#include <set>

#include "support/support.h"

namespace juniper {
namespace {

namespace fs = std::filesystem;
const fs::path root = JUNIPER_SOURCE_DIR;

std::set<std::string> codes_in(const std::string& text) {
  std::set<std::string> codes;
  const std::regex pattern("JR-[0-9]{3}");
  for (auto at = std::sregex_iterator(text.begin(), text.end(), pattern); at != std::sregex_iterator(); ++at)
    codes.insert(at->str());
  return codes;
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
  const std::regex pattern(R"(\]\(([^)#:]+)\))");
  for (const char* name : {"README.md", "CONTRIBUTING.md", "docs/architecture.md", "docs/store.md", "docs/baseline.md",
                           "docs/language.md"}) {
    const std::string text = test::read_file(root / name);
    EXPECT_FALSE(text.empty()) << name;
    for (auto at = std::sregex_iterator(text.begin(), text.end(), pattern); at != std::sregex_iterator(); ++at) {
      EXPECT_TRUE(fs::exists((root / name).parent_path() / (*at)[1].str())) << name << " links to " << (*at)[1].str();
    }
  }
}

// The example of docs/language.md is a model that checks.
TEST(Docs, TheExampleOfTheLanguageChecks) {
  const std::string text = test::read_file(root / "docs/language.md");
  const std::size_t begin = text.find("```\n") + 4;
  const auto model = Model::parse("example.ridge", text.substr(begin, text.find("```", begin) - begin));
  EXPECT_TRUE(model) << test::messages(model.error());
}

}  // namespace
}  // namespace juniper
