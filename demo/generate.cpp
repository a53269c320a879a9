// The generator of the demo's data.
//
// Everything comes from one seeded generator of the standard library (whose raw output is the same everywhere), drawn
// in one order and used in integer arithmetic, so that the files are the same on every machine. Shapes follow life: a
// few busy stations and many quiet ones, a long tail of cards, more sessions in the evening, at weekends and in winter,
// and growth over the years.
#include <fmt/compile.h>
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <memory>
#include <random>
#include <span>
#include <vector>

#include <chrono>

#include "juniper/demo.h"
#include "juniper/value.h"
#include "model_text.h"

namespace juniper {

namespace {

using Days = std::chrono::sys_days;
using std::chrono::year_month_day;

constexpr int first_year = 2023;
constexpr int last_year = 2025;
constexpr std::uint64_t minutes_per_day = 24 * 60;

const Days first_day = Days(std::chrono::year(first_year) / 1 / 1);
const Days end_day = Days(std::chrono::year(last_year + 1) / 1 / 1);

// --- randomness -----------------------------------------------------------------------------------------------------

class Random {
 public:
  explicit Random(std::uint64_t seed) : engine_(seed) {}
  // A number in [0, below).
  std::uint64_t below(std::uint64_t below) { return engine_() % below; }
  // A number in [low, high].
  std::int64_t between(std::int64_t low, std::int64_t high) {
    return low + static_cast<std::int64_t>(below(static_cast<std::uint64_t>(high - low + 1)));
  }
  // True once in `times`.
  bool once_in(std::uint64_t times) { return below(times) == 0; }

 private:
  std::mt19937_64 engine_;
};

// Draws indexes by weight.
class Weighted {
 public:
  explicit Weighted(const std::vector<std::uint64_t>& weights) {
    for (const std::uint64_t weight : weights) sums_.push_back((sums_.empty() ? 0 : sums_.back()) + weight);
  }
  // A long tail: the weight of index i is proportional to 1 / (i + flat).
  static Weighted long_tail(std::size_t count, std::uint64_t flat) {
    std::vector<std::uint64_t> weights(count);
    for (std::size_t i = 0; i < count; ++i) weights[i] = 1'000'000'000 / (i + flat);
    return Weighted(weights);
  }
  std::size_t draw(Random& random) const {
    return static_cast<std::size_t>(std::upper_bound(sums_.begin(), sums_.end(), random.below(sums_.back())) -
                                    sums_.begin());
  }
  std::uint64_t sum_before(std::size_t index) const { return index == 0 ? 0 : sums_[index - 1]; }
  std::uint64_t sum() const { return sums_.back(); }
  std::size_t size() const { return sums_.size(); }

 private:
  std::vector<std::uint64_t> sums_;
};

tl::unexpected<Diagnostics> failed(std::string code, std::string message) {
  Diagnostic diagnostic;
  diagnostic.code = std::move(code);
  diagnostic.message = std::move(message);
  return tl::unexpected(Diagnostics{std::move(diagnostic)});
}

// --- files ----------------------------------------------------------------------------------------------------------

// A file that is written through a buffer; the first error is kept.
class Output {
 public:
  explicit Output(const std::filesystem::path& path)
      : path_(path.string()), file_(std::fopen(path.c_str(), "wb"), &std::fclose) {
    if (!file_) error_ = errno;
  }
  // Takes FMT_COMPILE("…"): most of the time of a demo would else go into reading the formats.
  template <class Format, class... Arguments>
  void print(const Format& format, const Arguments&... arguments) {
    fmt::format_to(std::back_inserter(buffer_), format, arguments...);
    if (buffer_.size() > (1U << 20)) flush();
  }
  void write(std::string_view text) { buffer_.append(text.data(), text.data() + text.size()); }
  Result<void> close() {
    flush();
    if (file_ && std::fflush(file_.get()) != 0) error_ = errno;
    if (error_ == 0) return {};
    return failed("JR-002", fmt::format("cannot write {}: {}", path_, std::strerror(error_)));
  }

 private:
  void flush() {
    if (file_ && error_ == 0 && std::fwrite(buffer_.data(), 1, buffer_.size(), file_.get()) != buffer_.size())
      error_ = errno;
    buffer_.clear();
  }
  std::string path_;
  std::unique_ptr<std::FILE, int (*)(std::FILE*)> file_;
  fmt::memory_buffer buffer_;
  int error_ = 0;
};

std::string date_text(Days day) {
  const year_month_day civil(day);
  return fmt::format(FMT_COMPILE("{:04}-{:02}-{:02}"), static_cast<int>(civil.year()),
                     static_cast<unsigned>(civil.month()), static_cast<unsigned>(civil.day()));
}

// --- the network ----------------------------------------------------------------------------------------------------

struct Tariff {
  std::string_view code;
  std::string_view plan;
  int price;       // ten-thousandths for a kWh
  int idle_price;  // ten-thousandths for a minute; negative: none is set
  std::uint64_t weight;
};

// The last four stand in sessions only: tariffs that were retired and dropped from the list (planted: orphan keys).
constexpr std::array tariffs{Tariff{"BASE-D", "Base", 4900, 500, 260},
                             Tariff{"BASE-N", "Base", 4150, 250, 120},
                             Tariff{"COMM-D", "Commuter", 4475, 500, 170},
                             Tariff{"COMM-N", "Commuter", 3725, 0, 90},
                             Tariff{"FLEET-1", "Fleet", 3950, 750, 110},
                             Tariff{"FLEET-2", "Fleet", 3600, 750, 60},
                             Tariff{"ROAM", "Roaming", 6225, 1000, 90},
                             Tariff{"GUEST", "Guest", 6900, 1200, 50},
                             Tariff{"STAFF", "Staff", 2000, -1, 20},
                             Tariff{"TRIAL", "Guest", 3000, -1, 6},
                             Tariff{"OLD-A", "", 0, 0, 4},
                             Tariff{"OLD-B", "", 0, 0, 3},
                             Tariff{"X-17", "", 0, 0, 2},
                             Tariff{"TEST", "", 0, 0, 1}};
constexpr std::size_t listed_tariffs = tariffs.size() - 4;

struct Bay {
  std::uint32_t id;
  std::uint32_t station;
  std::string_view connector;
  int max_kw;
};

constexpr std::array<std::string_view, 5> regions{"Coast", "Upland", "Plains", "Harbour", "Lakes"};
constexpr std::array<std::string_view, 12> places{"Mill",   "Quay",    "Orchard", "Station", "Market", "Bridge",
                                                  "Meadow", "Foundry", "Harbour", "Summit",  "Depot",  "Garden"};
constexpr std::array<std::string_view, 10> streets{"North", "South", "East",  "West",  "Old",
                                                   "New",   "Upper", "Lower", "Inner", "Outer"};
constexpr std::array<std::string_view, 12> month_names{"January",   "February", "March",    "April",
                                                       "May",       "June",     "July",     "August",
                                                       "September", "October",  "November", "December"};
constexpr std::array<std::string_view, 7> weekday_names{"Monday", "Tuesday",  "Wednesday", "Thursday",
                                                        "Friday", "Saturday", "Sunday"};

constexpr std::array<std::string_view, 4> crew_names{"amber", "birch", "cedar", "dune"};
constexpr std::array<std::string_view, 3> shifts{"early", "late", "night"};

class Generator {
 public:
  Generator(std::filesystem::path directory, const DemoOptions& options)
      : data_(directory / "data"),
        directory_(std::move(directory)),
        sessions_(options.sessions),
        random_(options.seed) {}

  Result<void> run() {
    std::error_code error;
    if (std::filesystem::is_directory(directory_, error) && !std::filesystem::is_empty(directory_, error) &&
        !std::filesystem::exists(directory_ / "charging.ridge", error)) {
      return failed("JR-004", fmt::format("the folder {} holds files that are not the demo's: name a new one",
                                          directory_.string()));
    }
    std::filesystem::create_directories(data_, error);
    if (error) return failed("JR-002", fmt::format("cannot make the folder {}: {}", data_.string(), error.message()));
    Output model(directory_ / "charging.ridge");
    model.write(demo::model_text());
    Result<void> done = model.close();
    for (const auto step :
         {&Generator::write_tariffs, &Generator::write_stations_and_bays, &Generator::write_days,
          &Generator::write_sessions, &Generator::write_cards, &Generator::write_visits, &Generator::write_crews}) {
      if (done) done = (this->*step)();
    }
    return done;
  }

 private:
  Result<void> write_tariffs() {
    Output out(data_ / "tariffs.csv");
    out.write("tariff_code,plan,price_per_kwh,idle_price\n");
    for (const Tariff& tariff : std::span(tariffs).first(listed_tariffs)) {
      out.print(FMT_COMPILE("{},{},0.{:04},"), tariff.code, tariff.plan, tariff.price);
      if (tariff.idle_price >= 0) out.print(FMT_COMPILE("0.{:04}"), tariff.idle_price);
      out.write("\n");
    }
    return out.close();
  }

  Result<void> write_stations_and_bays() {
    const auto stations = static_cast<std::uint32_t>(std::clamp<std::uint64_t>(sessions_ / 2500, 40, 800));
    Output station_file(data_ / "stations.csv");
    Output bay_file(data_ / "bays.csv");
    station_file.write("station_id,name,region,installed\n");
    bay_file.write("bay_id,station_id,connector,max_kw\n");
    for (std::uint32_t s = 0; s < stations; ++s) {
      const std::string_view region = regions[random_.below(100) < 60 ? random_.below(2) : 2 + random_.below(3)];
      const Days installed = first_day - std::chrono::days(random_.below(2200));
      station_file.print(FMT_COMPILE("{},{} {} {},{},{}\n"), 100 + s, streets[s % streets.size()],
                         places[s / streets.size() % places.size()], s / 120 + 1, region, date_text(installed));
      const std::int64_t count = random_.between(2, 8);
      const bool fast = random_.once_in(3);
      for (std::int64_t b = 0; b < count; ++b) {
        const bool strong = fast && b < 4;
        bays_.push_back({static_cast<std::uint32_t>((100 + s) * 10 + static_cast<std::uint32_t>(b)), s,
                         strong ? "CCS" : (random_.once_in(6) ? "CHAdeMO" : "Type 2"),
                         strong ? (random_.once_in(2) ? 300 : 150) : (random_.once_in(4) ? 50 : 22)});
        bay_file.print(FMT_COMPILE("{},{},{},{}\n"), bays_.back().id, 100 + s, bays_.back().connector,
                       bays_.back().max_kw);
      }
    }
    if (Result<void> done = station_file.close(); !done) return done;
    return bay_file.close();
  }

  Result<void> write_days() {
    Output out(data_ / "days.csv");
    out.write("day,year,quarter,month,month_name,weekday,weekday_name\n");
    for (Days day = first_day; day < end_day; day += std::chrono::days(1)) {
      const year_month_day civil(day);
      const unsigned month = static_cast<unsigned>(civil.month());
      // Planted: three days are missing from the calendar.
      if (civil.year() == std::chrono::year(2024) && month == 10 && static_cast<unsigned>(civil.day()) >= 26 &&
          static_cast<unsigned>(civil.day()) <= 28)
        continue;
      const unsigned weekday = std::chrono::weekday(day).iso_encoding();
      out.print(FMT_COMPILE("{},{},{},{},{},{},{}\n"), date_text(day), static_cast<int>(civil.year()), (month + 2) / 3,
                month, month_names[month - 1], weekday, weekday_names[weekday - 1]);
    }
    return out.close();
  }

  // How many sessions start on each day: growth, season and weekday.
  static std::vector<std::uint64_t> day_weights() {
    constexpr std::array<std::uint64_t, 12> season{118, 114, 104, 97, 92, 90, 96, 99, 95, 100, 108, 117};
    constexpr std::array<std::uint64_t, 7> weekdays{94, 92, 95, 100, 118, 110, 88};
    std::vector<std::uint64_t> weights;
    for (Days day = first_day; day < end_day; day += std::chrono::days(1)) {
      const std::uint64_t growth = 1000 + static_cast<std::uint64_t>((day - first_day).count());
      weights.push_back(growth * season[static_cast<unsigned>(year_month_day(day).month()) - 1] *
                        weekdays[std::chrono::weekday(day).iso_encoding() - 1]);
    }
    return weights;
  }

  Result<void> write_sessions() {
    const Weighted days(day_weights());
    const Weighted hours({8, 5, 3, 2, 3, 8, 22, 45, 52, 44, 40, 42, 50, 46, 44, 48, 62, 88, 104, 96, 70, 46, 28, 15});
    // Neighbours in the list are not neighbours in traffic: ranks are dealt over the bays.
    std::vector<std::uint32_t> dealt(bays_.size());
    for (std::uint32_t i = 0; i < dealt.size(); ++i) dealt[i] = i;
    for (std::size_t i = dealt.size(); i > 1; --i) std::swap(dealt[i - 1], dealt[random_.below(i)]);
    const Weighted bay_ranks = Weighted::long_tail(bays_.size(), 6);
    cards_in_use_ = std::max<std::uint64_t>(sessions_ / 18, 60);
    const Weighted card_ranks = Weighted::long_tail(cards_in_use_, 40);
    std::vector<std::uint64_t> tariff_weights;
    for (const Tariff& tariff : tariffs) tariff_weights.push_back(tariff.weight);
    const Weighted tariff_choice(tariff_weights);

    std::unique_ptr<Output> out;
    int year = 0;
    std::uint64_t row = 0;
    std::vector<std::uint64_t> minutes;
    std::vector<std::uint64_t> meters(bays_.size(), 0);
    for (std::size_t d = 0; d < days.size(); ++d) {
      const Days day = first_day + std::chrono::days(d);
      if (static_cast<int>(year_month_day(day).year()) != year) {
        if (out) {
          if (Result<void> done = out->close(); !done) return done;
        }
        year = static_cast<int>(year_month_day(day).year());
        out = std::make_unique<Output>(data_ / fmt::format("sessions-{}.csv", year));
        out->write(
            "session_id,row_no,bay_id,card_id,tariff_code,start_day,end_day,started,ended,energy_kwh,peak_kw,idle_"
            "minutes,channel,channel_name,meter_reading,battery_start,currency,air_temp,settled,receipt\n");
      }
      // Shares of the whole are cut at whole sessions, so that they add up to it.
      const auto share = [&](std::size_t index) {
        return static_cast<std::uint64_t>(static_cast<int128>(sessions_) * days.sum_before(index) / days.sum());
      };
      const std::uint64_t count = (d + 1 == days.size() ? sessions_ : share(d + 1)) - share(d);
      minutes.resize(count);
      for (std::uint64_t& minute : minutes) minute = hours.draw(random_) * 60 + random_.below(60);
      std::sort(minutes.begin(), minutes.end());
      for (const std::uint64_t minute : minutes) {
        const std::uint32_t bay = dealt[bay_ranks.draw(random_)];
        const std::size_t card = card_ranks.draw(random_);
        const Tariff& tariff = tariffs[tariff_choice.draw(random_)];
        write_session(*out, ++row, day, minute, bay, card, tariff, meters[bay]);
      }
    }
    return out->close();
  }

  void write_session(Output& out, std::uint64_t row, Days day, std::uint64_t minute, std::uint32_t bay_index,
                     std::size_t card, const Tariff& tariff, std::uint64_t& meter) {
    const Bay& bay = bays_[bay_index];
    // Energy in Wh: fast bays give more; a few sessions break off at once.
    std::uint64_t energy = random_.once_in(60)
                               ? random_.below(40) * 10
                               : 2000 + random_.below(bay.max_kw >= 150 ? 52000 : 24000) + random_.below(9000);
    const std::uint64_t duration = 4 + energy * 60 / static_cast<std::uint64_t>(bay.max_kw * 620) + random_.below(14);
    const std::uint64_t idle = random_.once_in(3) ? 1 + random_.below(random_.once_in(9) ? 480 : 55) : 0;
    const std::uint64_t seconds = random_.below(60);
    const std::uint64_t stop = minute + duration + idle;
    const Days stop_day = day + std::chrono::days(stop / minutes_per_day);
    meter += energy * 1000 + random_.below(1000);
    // Planted: a few sessions carry no tariff at all; a few stand at a bay that no longer exists.
    const bool no_tariff = random_.once_in(700);
    const std::uint32_t bay_id = random_.once_in(4000) ? 9990 + static_cast<std::uint32_t>(random_.below(3)) : bay.id;
    const std::string_view channel =
        tariff.plan == "Roaming" ? "roaming"
                                 : (random_.below(100) < 58 ? "app" : (random_.below(100) < 80 ? "card" : "terminal"));
    const std::uint64_t peak =
        static_cast<std::uint64_t>(bay.max_kw) * (6000 + random_.below(3800)) / 100;  // hundredths of a kW
    // Planted: what the channel is called stands in each row; the air has more digits than anybody reads; and when the
    // bank settled it is one of some days at one of some moments of a day, to the microsecond.
    const std::string_view channel_name = channel == "app"        ? "App"
                                          : channel == "card"     ? "Card reader"
                                          : channel == "terminal" ? "Payment terminal"
                                                                  : "Roaming partner";
    const std::uint64_t air = 20'000 + random_.below(300'000);  // ten-thousandths of a degree
    const Days settled = day + std::chrono::days(1 + random_.below(20));
    const std::uint64_t moment = random_.below(3000) * 28'799'903;  // microseconds
    const std::string start_text = date_text(day);
    const std::string stop_text = stop_day == day ? start_text : date_text(stop_day);
    out.print(FMT_COMPILE("{},{},{},{},{},{},{},{} {:02}:{:02}:{:02},{} {:02}:{:02}:{:02},"),
              700'000'000 + row * 3 + row % 3, row, bay_id, 2'000'000 + card * 7, no_tariff ? "" : tariff.code,
              start_text, stop_text, start_text, minute / 60, minute % 60, seconds, stop_text,
              stop % minutes_per_day / 60, stop % 60, seconds);
    out.print(FMT_COMPILE("{}.{:03},{}.{:02},{},{},{},{}.{:06},"), energy / 1000, energy % 1000, peak / 100, peak % 100,
              idle, channel, channel_name, meter / 1'000'000, meter % 1'000'000);
    if (!random_.once_in(5)) out.print(FMT_COMPILE("{}"), random_.between(3, 85));
    out.print(FMT_COMPILE(",EUR,{}.{:04},{} {:02}:{:02}:{:02}.{:06},R{:016X}\n"), air / 10'000, air % 10'000,
              date_text(settled), moment / 3'600'000'000, moment / 60'000'000 % 60, moment / 1'000'000 % 60,
              moment % 1'000'000, row * 0x9E3779B97F4A7C15ULL ^ 0x51ED270B7A2C41D3ULL);
  }

  // Planted: cards are listed long before and after they are used; the sessions use a sixth of them.
  Result<void> write_cards() {
    Output out(data_ / "cards.csv");
    out.write("card_id,holder,issued,serial\n");
    for (std::uint64_t card = 0; card < cards_in_use_ * 6; ++card) {
      const std::string_view holder = random_.once_in(5) ? "fleet" : "private";
      const Days issued = first_day - std::chrono::days(random_.below(1500));
      const std::uint64_t check = random_.below(100000);
      out.print(FMT_COMPILE("{},{},{},{:06}-{:05}\n"), 2'000'000 + card * 7, holder, date_text(issued), card * 11,
                check);
    }
    return out.close();
  }

  Result<void> write_visits() {
    constexpr std::array<std::string_view, 5> kinds{"inspection", "repair", "cleaning", "firmware", "vandalism"};
    const std::uint64_t count = std::max<std::uint64_t>(sessions_ / 120, 80);
    const std::uint64_t span = static_cast<std::uint64_t>((end_day - first_day).count());
    std::vector<std::string> lines;
    for (std::uint64_t visit = 0; visit < count; ++visit) {
      const Bay& bay = bays_[random_.below(bays_.size())];
      const std::string_view kind = kinds[std::min(random_.below(5), random_.below(5))];
      const std::uint64_t duration = 10 + random_.below(kind == "repair" ? 240 : 60);
      // Planted: two visits in a hundred name a bay that is not in the list.
      const std::uint64_t bay_id = visit % 50 == 17 ? 9900 + random_.below(4) : bay.id;
      const std::uint64_t cents = random_.below(100);
      const std::string_view crew = crew_names[random_.below(crew_names.size())];
      const std::string_view shift = shifts[random_.below(shifts.size())];
      lines.push_back(fmt::format("{},{},{},{},{},{},{},{}.{:02}\n", 40'000 + visit, bay_id,
                                  date_text(first_day + std::chrono::days(visit * span / count)), kind, crew, shift,
                                  duration, 20 + duration * (kind == "vandalism" ? 3 : 1), cents));
    }
    // Planted: they stand in no order.
    for (std::size_t i = lines.size(); i > 1; --i) std::swap(lines[i - 1], lines[random_.below(i)]);
    Output out(data_ / "visits.csv");
    out.write("visit_id,bay_id,visit_day,kind,crew,shift,minutes,cost\n");
    for (const std::string& line : lines) out.write(line);
    return out.close();
  }

  Result<void> write_crews() {
    constexpr std::array<std::string_view, 5> leaders{"Fern", "Moss", "Reed", "Sage", "Thistle"};
    Output out(data_ / "crews.csv");
    out.write("crew,shift,leader\n");
    for (const std::string_view crew : crew_names) {
      for (const std::string_view shift : shifts)
        out.print(FMT_COMPILE("{},{},{}\n"), crew, shift, leaders[random_.below(5)]);
    }
    return out.close();
  }

  std::filesystem::path data_;
  std::filesystem::path directory_;
  std::uint64_t sessions_;
  Random random_;
  std::vector<Bay> bays_;
  std::uint64_t cards_in_use_ = 0;
};

}  // namespace

Result<void> write_demo(const std::string& directory, const DemoOptions& options) {
  return Generator(directory, options).run();
}

}  // namespace juniper
