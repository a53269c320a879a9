// Measures of one shape: what differs between them could be the arguments of a function.
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <map>

#include "audit/rules.h"
#include "language/lexer.h"

namespace juniper::auditing {

using namespace language;

namespace {

constexpr std::size_t least_measures = 3;
constexpr std::size_t least_parts = 7;  // of an expression: a sum of a column is no shape
constexpr std::size_t most_arguments = 3;

// A measure's text with a hole for each column, measure, parameter and literal, and what stands in the holes.
struct Shape {
  const Measure* measure = nullptr;
  std::string text;
  std::vector<Span> holes;
};

// Nothing where a part of the expression stands elsewhere, in a function, or is too small to speak of.
std::optional<Shape> shape_of(const CheckedModel& model, const Measure& measure) {
  Shape shape{&measure, "", {}};
  const Span whole = measure.expression->span;
  std::size_t parts = 0;
  bool is_own = true;
  walk(measure.expression, [&](const Node& n) {
    ++parts;
    const bool is_hole = n.op == Op::column || n.op == Op::measure || n.op == Op::literal;
    if (!is_hole) return;
    is_own = is_own && n.span.file == whole.file && n.span.begin >= whole.begin && n.span.end <= whole.end;
    shape.holes.push_back(n.span);
  });
  if (!is_own || parts < least_parts) return std::nullopt;
  std::sort(shape.holes.begin(), shape.holes.end(), [](const Span& a, const Span& b) { return a.begin < b.begin; });
  shape.holes.erase(std::unique(shape.holes.begin(), shape.holes.end()), shape.holes.end());
  std::uint32_t at = whole.begin;
  const auto add = [&](std::string_view text) {
    for (const char c : text) {
      const bool is_blank = c == ' ' || c == '\n' || c == '\t' || c == '\r';
      if (!is_blank) shape.text += c;
      if (is_blank && !shape.text.ends_with(' ')) shape.text += ' ';
    }
  };
  for (const Span& hole : shape.holes) {
    if (hole.begin < at) return std::nullopt;  // one within another
    add(model.sources.text({whole.file, at, hole.begin}));
    shape.text += '\0';
    at = hole.end;
  }
  add(model.sources.text({whole.file, at, whole.end}));
  return shape;
}

// The function that measures of one shape would call, and their calls.
struct Proposal {
  std::string function;
  std::vector<std::string> calls;      // of each measure
  std::vector<std::string> differing;  // what stands in the first hole that differs, of each measure
};

std::optional<Proposal> propose(const CheckedModel& model, const std::vector<Shape>& shapes) {
  const auto text_of = [&](const Span& span) { return std::string(model.sources.text(span)); };
  const Shape& first = shapes.front();
  // What the same texts stand in throughout is one argument.
  std::map<std::vector<std::string>, std::string> arguments;
  std::vector<std::vector<std::string>> order;
  Proposal proposal;
  std::string body;
  const Span whole = first.measure->expression->span;
  std::uint32_t at = whole.begin;
  for (std::size_t h = 0; h < first.holes.size(); ++h) {
    std::vector<std::string> texts;
    for (const Shape& shape : shapes) texts.push_back(text_of(shape.holes[h]));
    if (std::all_of(texts.begin(), texts.end(), [&](const std::string& text) { return text == texts[0]; })) continue;
    const auto [argument, is_new] = arguments.emplace(texts, std::string(1, static_cast<char>('a' + arguments.size())));
    if (is_new) order.push_back(texts);
    if (arguments.size() > most_arguments) return std::nullopt;
    body += text_of({whole.file, at, first.holes[h].begin}) + argument->second;
    at = first.holes[h].end;
  }
  if (order.empty()) return std::nullopt;  // the same, which is a finding of its own
  body += text_of({whole.file, at, whole.end});
  std::string name = "like_" + first.measure->name;
  if (!is_plain_name(name)) name = "of_one_shape";
  std::vector<std::string> names;
  for (const auto& texts : order) names.push_back(arguments.at(texts));
  proposal.function = fmt::format("function {}({}) = {}", name, fmt::join(names, ", "), body);
  proposal.differing = order.front();
  for (std::size_t m = 0; m < shapes.size(); ++m) {
    std::vector<std::string> given;
    for (const auto& texts : order) given.push_back(texts[m]);
    proposal.calls.push_back(fmt::format("{}({})", name, fmt::join(given, ", ")));
  }
  return proposal;
}

// Whether the measures mean the same when they are written so.
bool means_the_same(const Subject& subject, const std::vector<Shape>& shapes, const Proposal& proposal) {
  std::vector<ModelText> texts = subject.dataset().model().texts();
  std::vector<std::size_t> last_first(shapes.size());
  for (std::size_t i = 0; i < shapes.size(); ++i) last_first[i] = i;
  std::sort(last_first.begin(), last_first.end(), [&](std::size_t a, std::size_t b) {
    return shapes[a].measure->expression->span.begin > shapes[b].measure->expression->span.begin;
  });
  for (const std::size_t i : last_first) {
    const Span span = shapes[i].measure->expression->span;
    texts[span.file].text.replace(span.begin, span.end - span.begin, proposal.calls[i]);
  }
  texts.front().text += "\n" + proposal.function + "\n";
  const auto changed = Model::parse(texts, subject.dataset().model().options());
  if (!changed) return false;
  const CheckedModel& after = model::checked(*changed);
  return std::all_of(shapes.begin(), shapes.end(), [&](const Shape& shape) {
    const auto measure = after.find_measure(shape.measure->name);
    return measure && canonical(after, after.measures[*measure].expression, OuterRows::by_order) ==
                          canonical(subject.model(), shape.measure->expression, OuterRows::by_order);
  });
}

}  // namespace

void find_repeated_shapes(const Subject& subject, Findings& findings) {
  const CheckedModel& model = subject.model();
  std::map<std::string, std::vector<Shape>> by_text;
  for (const Measure& measure : model.measures) {
    if (auto shape = shape_of(model, measure)) by_text[shape->text].push_back(std::move(*shape));
  }
  for (const auto& [text, shapes] : by_text) {
    if (shapes.size() < least_measures) continue;
    const auto proposal = propose(model, shapes);
    if (!proposal || !means_the_same(subject, shapes, *proposal)) continue;
    std::vector<std::string> names;
    for (const Shape& shape : shapes) names.push_back(shape.measure->name);
    findings.push_back(subject.about(
        names[0], shapes[0].measure->name_span,
        fmt::format("{} are written alike, but for {}", fmt::join(names, ", "), fmt::join(proposal->differing, ", ")),
        fmt::format("{}, and {} = {}", proposal->function, names[0], proposal->calls[0])));
  }
}

}  // namespace juniper::auditing
