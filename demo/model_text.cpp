#include "model_text.h"

namespace juniper::demo {

std::string_view model_text() {
  return R"ridge(# The charging network: a made-up model, generated together with its data. Some of it is wasteful or wrong on
# purpose, as models in real life are; the list of what is planted is demo/flaws.md of the source tree.

model "Tideline charging network"

table sessions from csv "data/sessions-*.csv" "One row for each charging session" {
  key session_id     integer
      row_no         integer     "Number of the row in the export"
      bay_id         integer
      card_id        integer
      tariff_code    text
      start_day      date
      end_day        date
      started        datetime
      ended          datetime
      energy_kwh     decimal(3)  format "#,##0.000"
      peak_kw        decimal(2)
      idle_minutes   integer
      channel        text        "How the session was started"
      channel_name   text
      meter_reading  decimal(6)  "Of the bay's meter, when the session ended"
      battery_start  text        "Charge level on arrival, in percent"
      currency       text
      air_temp       decimal(4)  "Of the bay's sensor, in degrees Celsius"
      settled        datetime    "When the bank booked it"
      receipt        text

  unit_price    = tariffs.price_per_kwh
  energy_charge = round(energy_kwh * unit_price, 2)  format "#,##0.00"
  idle_charge   = round(idle_minutes * tariffs.idle_price, 2)  format "#,##0.00"
  gross         = energy_charge + coalesce(idle_charge, 0.00)
  price_paid    = gross / energy_kwh
  size_class    = case when energy_kwh >= 40 then "large" when energy_kwh >= 15 then "medium" else "small" end
  all_energy    = sum(s.energy_kwh for s in sessions)
}

table bays from csv "data/bays.csv" {
  key bay_id      integer
      station_id  integer
      connector   text
      max_kw      integer

  n_started = count(sessions of this)
}

table stations from csv "data/stations.csv" {
  key station_id  integer
      name        text
      region      text
      installed   date

  elders = count(s in stations where s.region = this.region and s.installed < this.installed and
      s.station_id < this.station_id)
}

table tariffs from csv "data/tariffs.csv" {
  key tariff_code    text
      plan           text
      price_per_kwh  decimal(4)
      idle_price     decimal(4)  "For each minute"
}

table cards from csv "data/cards.csv" {
  key card_id  integer
      holder   text  "private or fleet"
      issued   date
      serial   text
}

table days from csv "data/days.csv" {
  key day           date
      year          integer
      quarter       integer
      month         integer
      month_name    text  sorted by month
      weekday       integer
      weekday_name  text  sorted by weekday
}

table visits from csv "data/visits.csv" "One row for each maintenance visit" {
  key visit_id   integer
      bay_id     integer
      visit_day  date
      kind       text
      crew       text
      shift      text
      minutes    integer
      cost       decimal(2)

  crew_shift = crew || "-" || shift
}

table crews from csv "data/crews.csv" {
  crew    text
  shift   text
  leader  text

  key crew_shift = crew || "-" || shift
}

link sessions.bay_id      -> bays.bay_id
link bays.station_id      -> stations.station_id
link sessions.card_id     -> cards.card_id
link sessions.tariff_code -> tariffs.tariff_code
link sessions.start_day   -> days.day
link sessions.end_day     -> days.day as end_date
link visits.bay_id        -> bays.bay_id
link visits.visit_day     -> days.day
link visits.crew_shift    -> crews.crew_shift
calendar days.day periods (year, quarter, month, month_name)

measure n_sessions     = count(sessions)  format "#,##0"
measure energy         = sum(energy_kwh for sessions)  format "#,##0.0"  "Energy sold, in kWh"
measure energy_revenue = sum(energy_charge for sessions)  format "#,##0.00"
measure idle_revenue   = sum(idle_charge for sessions)  format "#,##0.00"
measure revenue        = sum(gross for sessions)  format "#,##0.00"
measure app_revenue    = sum(gross for sessions where channel = "app")  format "#,##0.00"
measure price          = revenue / energy  format "0.000"  "Paid for a kWh"
measure avg_price      = avg(price_paid for sessions)  format "0.000"
measure per_session    = energy / n_sessions  format "0.00"
measure longest_idle   = max(idle_minutes for sessions)  format "#,##0"
measure active_cards   = count(distinct card_id for sessions)  format "#,##0"
measure active_bays    = count(distinct bay_id for sessions)  format "#,##0"
measure n_visits       = count(visits)  format "#,##0"
measure visit_cost     = sum(cost for visits)  format "#,##0.00"
measure cost_share     = visit_cost / revenue  format "0.0%"
measure n_stations     = count(stations)  format "#,##0"
measure fast_bays      = count(bays where max_kw >= 150)  format "#,##0"
measure old_sessions   = count(sessions where started < datetime "2024-01-01 00:00:00")
measure idle_share     = idle_revenue / revenue  format "0.0%"
measure mean_air       = avg(air_temp for sessions)  format "0.0"
measure last_settled   = max(settled for sessions)
measure list_value     = energy * avg(tariffs.price_per_kwh for sessions)  format "#,##0.00"
measure station_price  = avg(price of s for s in stations)  format "0.000"
measure roaming_value  = sum(gross for sessions where tariffs.plan = "roaming")  format "#,##0.00"
measure fast_sessions  = count(sessions where bays.max_kw >= 150)  format "#,##0"
measure visits_made    = count(visits)  format "#,##0"
measure busiest_bay    = max(n_started for bays)  format "#,##0"
measure most_elders    = max(elders for stations)  format "#,##0"
measure ways_to_pay    = count(distinct channel || " / " || tariffs.plan for sessions)  format "#,##0"
measure app_kwh        = sum(energy_kwh for sessions where channel = "app") / n_sessions  used by "weekly letter"
measure card_kwh       = sum(energy_kwh for sessions where channel = "card") / n_sessions  used by "weekly letter"
measure terminal_kwh   = sum(energy_kwh for sessions where channel = "terminal") / n_sessions  used by "weekly letter"

query monthly "Revenue by month" {
  by    days.year, days.month_name
  show  n_sessions, energy, revenue, price
  total days.year, grand
}

query regions "Regions side by side" {
  by    stations.region
  show  n_sessions, energy, revenue, price, avg_price, active_cards, visit_cost, cost_share
  total grand
  sort  revenue desc
}

query plans "What each plan brings" {
  by    tariffs.plan
  show  n_sessions, energy_revenue, idle_revenue, revenue, longest_idle
  total grand
}

query top_stations "The ten busiest stations" {
  by    stations.name, stations.region
  show  n_sessions, revenue, per_session, active_bays
  sort  n_sessions desc
  limit 10
  total grand
}

query channels "App and other channels, this year" {
  by    sessions.channel, days.quarter
  show  n_sessions, revenue, app_revenue
  where days.year = 2025
  total sessions.channel, grand
}

query sizes "Sessions by size" {
  by    sessions.size_class
  show  n_sessions, energy, revenue
  total grand
}

query weekdays "When people charge" {
  by    days.weekday_name
  show  n_sessions, energy, per_session
  where stations.region in ("Coast", "Upland") and sessions.channel <> "roaming"
}

query maintenance "Visits by region and year" {
  by    stations.region, days.year
  show  n_visits, visit_cost, n_sessions
  total stations.region, days.year, grand
}

query equipment "What stands where" {
  by    stations.region
  show  n_stations, fast_bays
  total grand
}

query arrivals "Sessions by the year in which they ended" {
  by    end_date.year
  show  n_sessions, energy, old_sessions
  total grand
}

query holders "Private and fleet cards" {
  by    cards.holder, tariffs.plan
  show  revenue, n_sessions
  where sessions.idle_minutes > 0
  sort  revenue desc
}

query settlement "How sessions were started, and until when they were settled" {
  by    sessions.channel_name
  show  n_sessions, mean_air, last_settled
  total grand
}

query second_look "Numbers to look at twice" {
  by    stations.region
  show  list_value, station_price, roaming_value, fast_sessions, visits_made, busiest_bay, most_elders, ways_to_pay
  total grand
}

query crew_leaders "Visits by the leader of the crew" {
  by    crews.leader
  show  n_visits, visit_cost
  total grand
}

reader coast "The team on the coast" {
  stations where region = "Coast"
  hide     sessions.card_id, measure cost_share
}

reader fleets "Fleet managers see the cards of fleets" {
  cards where holder <> "Private"
}
)ridge";
}

}  // namespace juniper::demo
