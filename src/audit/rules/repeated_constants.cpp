// Numbers and dates that stand in the definitions of several measures.
#include <fmt/format.h>

#include <map>

#include "audit/rules.h"

namespace juniper::auditing {

using namespace language;

namespace {

// Units and rounding are no decisions: 0, 1, 2, powers of ten, and what clocks and calendars count in.
bool is_everyday(const Value& value, Type type) {
  if (!type.is_exact_number()) return type.kind == TypeKind::real;
  int128 units = value.exact() < 0 ? -value.exact() : value.exact();
  for (int digit = 0; digit < type.scale; ++digit) {
    if (units % 10 != 0) return false;
    units /= 10;
  }
  int128 power = units;
  while (power != 0 && power % 10 == 0) power /= 10;
  if (units <= 2 || power == 1) return true;
  for (const int unit : {4, 7, 12, 24, 52, 60, 365, 366, 1440, 3600, 86400}) {
    if (units == unit) return true;
  }
  return false;
}

bool is_decision(const Node& n) {
  const bool kind = n.type.is_number() || n.type.kind == TypeKind::date || n.type.kind == TypeKind::datetime;
  return n.op == Op::literal && !n.parameter && kind && !n.literal.is_null() && !is_everyday(n.literal, n.type);
}

}  // namespace

void find_repeated_constants(const Subject& subject, Findings& findings) {
  struct Use {
    const Measure* measure;
    std::string text;
  };
  // A number counts where it is compared or reckoned with: not as the digits of a round.
  std::map<std::string, std::vector<Use>> uses;
  std::set<std::string> definitions;
  for (const Measure& measure : subject.model().measures) {
    // Of measures that are the same, which is a finding of its own, one will stay.
    if (!definitions.insert(canonical(subject.model(), measure.expression, OuterRows::by_order)).second) continue;
    walk(measure.expression, [&](const Node& n) {
      const bool reckons = n.op == Op::equal || n.op == Op::not_equal || n.op == Op::less || n.op == Op::less_equal ||
                           n.op == Op::in || n.op == Op::multiply || n.op == Op::divide || n.op == Op::add ||
                           n.op == Op::subtract;
      if (!reckons) return;
      for (const NodePtr& child : n.children) {
        const NodePtr& value = child->op == Op::to_real || child->op == Op::rescale ? child->children[0] : child;
        if (!is_decision(*value)) continue;
        auto& of = uses[to_string(value->type) + " " + to_text(value->literal, value->type)];
        if (of.empty() || of.back().measure != &measure) of.push_back({&measure, subject.text(value)});
      }
    });
  }
  for (const auto& [value, of] : uses) {
    if (of.size() < 2) continue;
    std::string names;
    for (const Use& use : of) names += (names.empty() ? "" : ", ") + use.measure->name;
    findings.push_back(subject.about(of[1].measure->name, of[1].measure->name_span,
                                     fmt::format("{} stands in {}", of[0].text, names),
                                     fmt::format("param NAME = {}, and its name in these measures", of[0].text)));
  }
}

}  // namespace juniper::auditing
