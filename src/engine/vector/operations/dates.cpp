// Kernels over dates and times: days since 1970-01-01, and microseconds.
#include <algorithm>
#include <optional>

#include "base/calendar.h"
#include "engine/vector/operations/kernels.h"
#include "engine/vector/operations/map.h"

namespace juniper::engine::kernels {

using language::Node;

namespace {

// 0 is Monday.
std::int64_t weekday_of(std::int64_t days) {
  return ((days + 3) % 7 + 7) % 7;
}

std::int64_t iso_week(std::int64_t days) {
  // The week belongs to the year of its Thursday.
  const std::int64_t thursday = days - weekday_of(days) + 3;
  const int year = static_cast<int>(base::civil_from_days(thursday).year());
  return (thursday - base::days_from_civil(year, 1, 1)) / 7 + 1;
}

// f of the day of a date or datetime.
template <class F>
void map_days(const Node& node, const Inputs& in, Vector& out, const F& f) {
  const bool has_time = node.children[0]->type.kind == TypeKind::datetime;
  map<std::int64_t, std::int64_t>(*in[0], out, [&](std::int64_t x, std::int64_t& r) {
    r = f(has_time ? base::floor_divide(x, base::microseconds_per_day) : x);
    return State::value;
  });
}

// f of the time of day, in microseconds, of a datetime or time.
template <class F>
void map_time(const Inputs& in, Vector& out, const F& f) {
  map<std::int64_t, std::int64_t>(*in[0], out, [&](std::int64_t x, std::int64_t& r) {
    r = f(x - base::floor_divide(x, base::microseconds_per_day) * base::microseconds_per_day);
    return State::value;
  });
}

template <class F>
void map_pair(const Inputs& in, Vector& out, const F& f) {
  map<std::int64_t, std::int64_t, std::int64_t>(*in[0], *in[1], out,
                                                [&](std::int64_t a, std::int64_t b, std::int64_t& r) {
                                                  r = f(a, b);
                                                  return State::value;
                                                });
}

// A date moved out of the years 1 to 9999 is null.
template <class F>
void map_moved(const Inputs& in, Vector& out, const F& f) {
  map<std::int64_t, std::int64_t, std::int64_t>(*in[0], *in[1], out,
                                                [&](std::int64_t days, std::int64_t by, std::int64_t& r) {
                                                  const std::optional<std::int64_t> moved = f(days, by);
                                                  r = moved.value_or(0);
                                                  return moved ? State::value : State::null;
                                                });
}

void move_days(const Inputs& in, Vector& out, base::Unit unit) {
  map_moved(in, out, [=](std::int64_t days, std::int64_t by) { return base::moved(days, by, unit); });
}

void edge_of_unit(const Inputs& in, Vector& out, std::int64_t (*edge)(std::int64_t, base::Unit)) {
  map_moved(in, out, [=](std::int64_t days, std::int64_t unit) {
    return base::within_years(edge(days, static_cast<base::Unit>(unit)));
  });
}

}  // namespace

void year(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  map_days(node, in, out,
           [](std::int64_t days) -> std::int64_t { return static_cast<int>(base::civil_from_days(days).year()); });
}

void quarter(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  map_days(node, in, out, [](std::int64_t days) -> std::int64_t {
    return (static_cast<unsigned>(base::civil_from_days(days).month()) + 2) / 3;
  });
}

void month(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  map_days(node, in, out, [](std::int64_t days) -> std::int64_t {
    return static_cast<unsigned>(base::civil_from_days(days).month());
  });
}

void day(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  map_days(node, in, out,
           [](std::int64_t days) -> std::int64_t { return static_cast<unsigned>(base::civil_from_days(days).day()); });
}

void weekday(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  map_days(node, in, out, [](std::int64_t days) -> std::int64_t { return weekday_of(days) + 1; });
}

void week(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  map_days(node, in, out, iso_week);
}

void date(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  map_days(node, in, out, [](std::int64_t days) { return days; });
}

void hour(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map_time(in, out, [](std::int64_t microseconds) { return microseconds / 3'600'000'000; });
}

void minute(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map_time(in, out, [](std::int64_t microseconds) { return microseconds / 60'000'000 % 60; });
}

void second(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map_time(in, out, [](std::int64_t microseconds) { return microseconds / 1'000'000 % 60; });
}

void time(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map_time(in, out, [](std::int64_t microseconds) { return microseconds; });
}

void datetime(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map_pair(in, out, [](std::int64_t day, std::int64_t time) { return day * base::microseconds_per_day + time; });
}

void add_days(const Node&, const Inputs& in, const Setting&, Vector& out) {
  move_days(in, out, base::Unit::day);
}

void add_months(const Node&, const Inputs& in, const Setting&, Vector& out) {
  move_days(in, out, base::Unit::month);
}

void add_years(const Node&, const Inputs& in, const Setting&, Vector& out) {
  move_days(in, out, base::Unit::year);
}

void days_between(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map_pair(in, out, [](std::int64_t from, std::int64_t to) { return to - from; });
}

void months_between(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map<std::int64_t, std::int64_t, double>(*in[0], *in[1], out, [](std::int64_t from, std::int64_t to, double& r) {
    r = base::months_between(from, to);
    return State::value;
  });
}

void years_between(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map<std::int64_t, std::int64_t, double>(*in[0], *in[1], out, [](std::int64_t from, std::int64_t to, double& r) {
    r = base::years_between(from, to);
    return State::value;
  });
}

void start_of(const Node&, const Inputs& in, const Setting&, Vector& out) {
  edge_of_unit(in, out, base::start_of);
}

void end_of(const Node&, const Inputs& in, const Setting&, Vector& out) {
  edge_of_unit(in, out, base::end_of);
}

void today(const Node&, const Inputs&, const Setting& setting, Vector& out) {
  std::fill(out.narrow.begin(), out.narrow.end(), setting.today);
}

}  // namespace juniper::engine::kernels
