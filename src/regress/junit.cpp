// Checks as JUnit XML, which build servers show: a suite with a test case for each query's values, and one for each of
// its times that were looked at. XML has no way to write most control characters: they stand there as escapes.
#include <fmt/format.h>

#include <pugixml.hpp>
#include <sstream>

#include "base/failure.h"
#include "base/format.h"
#include "base/output_file.h"
#include "base/shown_text.h"
#include "juniper/baseline.h"

namespace juniper {

namespace {

std::string seconds(std::int64_t nanoseconds) {
  return fmt::format("{:.6f}", static_cast<double>(nanoseconds) / 1e9);
}

void add_failure(pugi::xml_node test, const std::string& message, const std::string& details) {
  pugi::xml_node failure = test.append_child("failure");
  failure.append_attribute("message") = base::one_line(message).c_str();
  failure.append_child(pugi::node_pcdata).set_value(base::lines(details).c_str());
}

std::string details_of(const Comparison& comparison) {
  std::string text;
  for (const Difference& d : comparison.samples)
    text += fmt::format("{} {}: expected {}, found {} {}\n", d.row, d.column, d.expected, d.found, d.change);
  if (comparison.differences > comparison.samples.size())
    text += fmt::format("and {} more\n", comparison.differences - comparison.samples.size());
  return text;
}

class Suite {
 public:
  Suite(const CheckReport& report, const std::string& name) {
    pugi::xml_node suites = document_.append_child("testsuites");
    suites.append_attribute("name") = "juniper";
    suite_ = suites.append_child("testsuite");
    suite_.append_attribute("name") = base::one_line(name).c_str();
    for (const CheckedQuery& query : report.queries) add(query);
    suite_.append_attribute("tests") = tests_;
    suite_.append_attribute("failures") = failures_;
    suite_.append_attribute("errors") = errors_;
    suite_.append_attribute("skipped") = skipped_;
  }
  std::string text() const {
    std::ostringstream out;
    document_.save(out, "  ");
    return out.str();
  }

 private:
  pugi::xml_node add_case(const std::string& group, const CheckedQuery& query, std::int64_t nanoseconds) {
    ++tests_;
    pugi::xml_node test = suite_.append_child("testcase");
    test.append_attribute("classname") = group.c_str();
    test.append_attribute("name") = base::one_line(query.query).c_str();
    test.append_attribute("time") = seconds(nanoseconds).c_str();
    return test;
  }

  void fail(pugi::xml_node test, const std::string& message, const std::string& details) {
    ++failures_;
    add_failure(test, message, details);
  }

  void add(const CheckedQuery& query) {
    pugi::xml_node values = add_case("values", query, query.nanoseconds);
    switch (query.state) {
      case CheckState::same:
        break;
      case CheckState::different:
        if (!query.accepted)
          fail(values, fmt::format("{} differences", query.comparison.differences), details_of(query.comparison));
        break;
      case CheckState::lost:
        fail(values, "the query is no longer in the model", "");
        break;
      case CheckState::failed: {
        ++errors_;
        pugi::xml_node error = values.append_child("error");
        error.append_attribute("message") = base::one_line(query.errors[0].message).c_str();
        error.append_child(pugi::node_pcdata).set_value(render(query.errors).c_str());
        break;
      }
      case CheckState::added:
        ++skipped_;
        values.append_child("skipped").append_attribute("message") = "it was not recorded";
        break;
    }
    if (query.expected) {
      pugi::xml_node expected = add_case("expected", query, 0);
      if (!query.expected->same())
        fail(expected, fmt::format("{} differences from what was expected", query.expected->differences),
             details_of(*query.expected));
    }
    add_speed("speed", query, query.warm);
    add_speed("cold speed", query, query.cold);
    if (query.budget) {
      pugi::xml_node budget = add_case("budget", query, query.budget->nanoseconds);
      if (!query.budget->kept())
        fail(budget,
             fmt::format("takes {}, and is allowed {}", base::format_nanoseconds(query.budget->nanoseconds),
                         base::format_nanoseconds(query.budget->allowed_nanoseconds)),
             "");
    }
  }

  void add_speed(const char* group, const CheckedQuery& query, const std::optional<SpeedComparison>& speed) {
    if (!speed) return;
    pugi::xml_node test = add_case(group, query, speed->candidate_nanoseconds);
    const std::string times =
        fmt::format("{:.2f} times the base ({:.2f} to {:.2f})", speed->ratio, speed->low, speed->high);
    switch (speed->verdict) {
      case SpeedVerdict::slower:
        fail(test, "slower: " + times, "");
        break;
      case SpeedVerdict::cannot_tell:
        if (query.undecided_fails) {
          fail(test, "can't tell: " + times, "");
        } else {
          ++skipped_;
          test.append_child("skipped").append_attribute("message") = ("can't tell: " + times).c_str();
        }
        break;
      case SpeedVerdict::faster:
      case SpeedVerdict::same:
        break;
    }
  }

  pugi::xml_document document_;
  pugi::xml_node suite_;
  unsigned tests_ = 0;
  unsigned failures_ = 0;
  unsigned errors_ = 0;
  unsigned skipped_ = 0;
};

}  // namespace

std::string to_junit(const CheckReport& report, const std::string& name) {
  return Suite(report, name).text();
}

Result<void> write_junit(const CheckReport& report, const std::string& name, const std::string& path,
                         Overwrite overwrite) {
  const auto is_ours = [](std::string_view begin) {
    return begin.find("<testsuites name=\"juniper\"") != std::string_view::npos;
  };
  return base::guarded([&] { return base::write_output(path, to_junit(report, name), is_ours, overwrite); });
}

}  // namespace juniper
