#include "refactor/plan.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/diagnostics.h"
#include "language/lexer.h"
#include "language/parser.h"

namespace juniper::refactoring {

namespace {

using namespace language;

constexpr std::array<std::pair<std::string_view, Verb>, 9> verbs{{{"inline", Verb::inline_column},
                                                                  {"store", Verb::store},
                                                                  {"relink", Verb::relink},
                                                                  {"split", Verb::split},
                                                                  {"retype", Verb::retype},
                                                                  {"round", Verb::round},
                                                                  {"drop", Verb::drop},
                                                                  {"trim", Verb::trim},
                                                                  {"reorder", Verb::reorder}}};

class PlanReader {
 public:
  explicit PlanReader(const std::string& text) {
    file_ = sources_.add({"<plan>", text});
    tokens_ = tokenize(sources_, file_, problems_);
  }

  Result<std::vector<Step>> read() {
    std::vector<Step> steps;
    while (problems_.empty() && token().kind != TokenKind::end) {
      if (Step made = step(); problems_.empty()) steps.push_back(std::move(made));
    }
    if (problems_.empty() && steps.empty()) fail("the plan has no step");
    if (!problems_.empty()) return tl::unexpected(problems_);
    return steps;
  }

 private:
  const Token& token(std::size_t ahead = 0) const { return tokens_[std::min(at_ + ahead, tokens_.size() - 1)]; }
  bool is_symbol(std::string_view symbol, std::size_t ahead = 0) const {
    return token(ahead).kind == TokenKind::symbol && token(ahead).text == symbol;
  }
  bool is_name(std::size_t ahead = 0) const {
    return token(ahead).kind == TokenKind::name || token(ahead).kind == TokenKind::quoted_name;
  }
  // A word that begins a step: not the name of a function.
  const std::pair<std::string_view, Verb>* verb() const {
    if (token().kind != TokenKind::name || is_symbol("(", 1)) return nullptr;
    const auto* const at =
        std::find_if(verbs.begin(), verbs.end(), [&](const auto& v) { return v.first == token().text; });
    return at == verbs.end() ? nullptr : at;
  }
  void fail(const std::string& message, std::string code = "JR-807", const std::string& fix = "") {
    if (!problems_.empty()) return;
    problems_.push_back(sources_.diagnostic(
        Severity::error, std::move(code), token().span, message,
        fix.empty() ? "steps are: inline TABLE.COLUMN, store TABLE.NAME = EXPRESSION, split TABLE.COLUMN, "
                      "retype TABLE.COLUMN TYPE, round TABLE.COLUMN TYPE, drop TABLE.COLUMN or MEASURE, "
                      "relink TABLE.COLUMN, trim TABLE, reorder TABLE by (COLUMN, …)"
                    : fix));
  }
  std::string take_name(const std::string& what) {
    if (!is_name()) {
      fail(fmt::format("{} was expected here", what));
      return "";
    }
    return tokens_[at_++].text;
  }
  void expect(std::string_view symbol) {
    if (is_symbol(symbol)) {
      ++at_;
    } else {
      fail(fmt::format("'{}' was expected here", symbol));
    }
  }
  std::string text_between(std::uint32_t begin, std::uint32_t end) const {
    std::string text(sources_.text({file_, begin, end}));
    text.erase(text.find_last_not_of(" \t\r\n") + 1);
    return text;
  }
  // Goes to the next step, at bracket depth zero, and gives the text up to there.
  std::string rest() {
    const std::uint32_t begin = token().span.begin;
    int depth = 0;
    while (token().kind != TokenKind::end && (depth > 0 || verb() == nullptr)) {
      if (is_symbol("(")) ++depth;
      if (is_symbol(")")) --depth;
      ++at_;
    }
    return text_between(begin, token().span.begin);
  }

  Step step() {
    Step made;
    const std::uint32_t begin = token().span.begin;
    const auto* const found = verb();
    if (found == nullptr) {
      std::vector<std::string> words;
      for (const auto& [word, meaning] : verbs) words.emplace_back(word);
      const std::string near = base::nearest_name(token().text, words);
      fail(fmt::format("'{}' is no step", token().text), "JR-807",
           near.empty() ? "" : base::did_you_mean(token().text, words));
      return made;
    }
    made.verb = found->second;
    ++at_;
    if (made.verb == Verb::trim || made.verb == Verb::reorder) {
      made.table = take_name("a table");
      if (made.verb == Verb::reorder) made.columns = order();
      made.text = text_between(begin, token().span.begin);
      return made;
    }
    made.column = take_name(made.verb == Verb::drop ? "a column or measure" : "a column");
    if (is_symbol(".")) {
      ++at_;
      made.table = std::move(made.column);
      made.column = take_name("the name of a column");
    } else if (made.verb != Verb::drop && problems_.empty()) {
      --at_;
      fail(fmt::format("'{}' does not name a column", made.column), "JR-801", "write TABLE.COLUMN");
    }
    switch (made.verb) {
      case Verb::store:
        expect("=");
        made.expression = rest();
        if (made.expression.empty()) fail("an expression was expected here");
        break;
      case Verb::split:
        if (token().kind == TokenKind::name && token().text == "into") {
          ++at_;
          expect("(");
          made.date_name = take_name("the name of the date's column");
          expect(",");
          made.time_name = take_name("the name of the time's column");
          expect(")");
        }
        break;
      case Verb::retype:
      case Verb::round:
        made.type = type(rest());
        break;
      case Verb::inline_column:
      case Verb::relink:
      case Verb::drop:
      case Verb::trim:
      case Verb::reorder:
        break;
    }
    made.text = text_between(begin, token().span.begin);
    return made;
  }

  // by COLUMN, or by (COLUMN, COLUMN, …)
  std::vector<std::string> order() {
    if (token().kind != TokenKind::name || token().text != "by") {
      fail("'by' was expected here");
      return {};
    }
    ++at_;
    if (!is_symbol("(")) return {take_name("a column")};
    ++at_;
    std::vector<std::string> columns{take_name("a column")};
    while (is_symbol(",")) {
      ++at_;
      columns.push_back(take_name("a column"));
    }
    expect(")");
    return columns;
  }

  // The type that a text names, as the model language has it.
  Type type(const std::string& text) {
    Sources sources;
    const std::uint32_t file = sources.add({"<type>", fmt::format("table t from csv \"\" {{ c {}\n}}", text)});
    Diagnostics problems;
    const syntax::Model model = parse_model(sources, file, problems);
    const bool one = problems.empty() && model.tables.size() == 1 && model.tables[0].columns.size() == 1;
    if (!one || !model.tables[0].columns[0].type) {
      fail(fmt::format("'{}' is not a type", text), "JR-807",
           "the types are integer, decimal(digits), real, text, boolean, date, datetime, time");
      return {};
    }
    return model.tables[0].columns[0].type->type;
  }

  Sources sources_;
  std::uint32_t file_ = 0;
  Diagnostics problems_;
  std::vector<Token> tokens_;
  std::size_t at_ = 0;
};

}  // namespace

Result<std::vector<Step>> parse_plan(const std::string& text) {
  return PlanReader(text).read();
}

}  // namespace juniper::refactoring
