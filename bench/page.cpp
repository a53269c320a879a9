// How large pages are, and how long a browser takes to draw them: the demo's network, and a model of 300 tables, 3,000
// columns and 500 measures. Times are those of the browser itself: from the beginning of opening the file until all that
// is drawn at first stands, and until the first text is seen.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <filesystem>
#include <fstream>
#include <random>
#include <vector>

#include "juniper/demo.h"
#include "juniper/overview.h"
#include "juniper/report.h"
#include "support/browser.h"

namespace {

using namespace juniper;

constexpr std::size_t tables = 300;
constexpr std::size_t facts = 30;

// Every tenth table holds readings, and leads to others; most of those lead nowhere.
std::string write_large(const std::string& folder) {
  std::filesystem::create_directories(folder);
  std::mt19937_64 random(7);
  const auto pick = [&](std::size_t below) { return static_cast<std::size_t>(random() % below); };
  std::string text = "model \"Charging network, large\"\n";
  std::string links;
  const auto name = [](std::size_t t) { return fmt::format("{}_{:03}", t < facts ? "readings" : "places", t); };
  for (std::size_t t = 0; t < tables; ++t) {
    std::string header = "id";
    std::string columns = "key id integer";
    std::vector<int> kinds;
    for (std::size_t c = 0; c < 9; ++c) {
      const bool is_link = t < facts ? c < 4 : c == 0 && pick(3) == 0 && t + 20 < tables;
      const int kind = is_link ? 0 : 1 + static_cast<int>(pick(4));
      static constexpr std::array types{"integer", "integer", "text", "decimal(2)", "date"};
      columns += fmt::format("  column_{} {}", c, types[static_cast<std::size_t>(kind)]);
      header += fmt::format(",column_{}", c);
      kinds.push_back(kind);
      if (is_link) {
        const std::size_t to = t < facts ? facts + pick(tables - facts) : t + 1 + pick(tables - t - 1);
        links += fmt::format("link {}.column_{} -> {}.id as way_{}_{}\n", name(t), c, name(to), t, c);
      }
    }
    std::ofstream csv(fmt::format("{}/{}.csv", folder, name(t)));
    csv << header << "\n";
    for (std::size_t r = 0; r < (t < facts ? 2000U : 50U); ++r) {
      csv << r;
      for (const int kind : kinds) {
        csv << ',';
        if (kind <= 1) csv << pick(kind == 0 ? 52 : 100);
        if (kind == 2) csv << "word " << pick(40);
        if (kind == 3) csv << fmt::format("{}.{:02}", pick(100), pick(100));
        if (kind == 4) csv << fmt::format("2025-{:02}-{:02}", 1 + pick(12), 1 + pick(28));
      }
      csv << "\n";
    }
    text += fmt::format("table {0} from csv \"{0}.csv\" {{ {1} }}\n", name(t), columns);
  }
  text += links;
  for (std::size_t m = 0; m < 500; ++m)
    text += fmt::format("measure measure_{} = count({}) + sum(id for {})\n", m, name(m % tables), name(m * 7 % tables));
  for (std::size_t q = 0; q < 20; ++q)
    text += fmt::format("query query_{} {{ by {}.id show n = count({}) }}\n", q, name(q), name(q));
  std::ofstream(folder + "/large.ridge") << text;
  return folder + "/large.ridge";
}

// Writes a page and measures it; false where something fails.
bool measure(const std::string& model, const char* what, int repeats, test::Browser& browser) {
  const auto dataset = Dataset::open(model);
  if (!dataset) return fmt::print("{}", render(dataset.error())), false;
  const auto begin = std::chrono::steady_clock::now();
  const auto view = overview(*dataset);
  if (!view) return fmt::print("{}", render(view.error())), false;
  const double gathered = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
  const std::string path = std::filesystem::absolute(std::filesystem::path(model).replace_extension(".html")).string();
  const auto bytes = write_page(*view, path, Overwrite::anything);
  if (!bytes) return fmt::print("{}", render(bytes.error())), false;
  std::vector<double> drawn;
  std::vector<double> seen;
  std::vector<double> rest;
  for (int i = 0; i < repeats; ++i) {
    browser.open(path);
    const auto times = std::vector<double>(browser.run_later(
        "const done = arguments[0]; const look = () => window.drawnAt === undefined ? setTimeout(look, 20) : "
        "done([window.drawnAt, performance.getEntriesByName('first-contentful-paint')[0].startTime]); look();"));
    drawn.push_back(times[0]);
    seen.push_back(times[1]);
    // What is drawn once it is about to be seen, all at once.
    rest.push_back(browser.run_later(
        "const done = arguments[0]; const begin = performance.now(); dispatchEvent(new Event('beforeprint')); "
        "requestAnimationFrame(() => requestAnimationFrame(() => done(performance.now() - begin)))"));
  }
  std::sort(drawn.begin(), drawn.end());
  std::sort(seen.begin(), seen.end());
  std::sort(rest.begin(), rest.end());
  fmt::print(
      "{:<28} {:5.2f} MB, gathered in {:5.2f} s; drawn in {:4.0f} ms ({:.0f} to {:.0f}), first text at {:.0f} ms; all "
      "that is drawn later and every row of every table, at once: {:.0f} ms\n",
      what, static_cast<double>(*bytes) / 1e6, gathered, drawn[drawn.size() / 2], drawn.front(), drawn.back(),
      seen[seen.size() / 2], rest[rest.size() / 2]);
  return true;
}

}  // namespace

int main(int count, char** arguments) {
  if (count < 5) return 2;
  const std::string folder = arguments[1];
  const std::uint64_t sessions = std::stoull(arguments[2]);
  const int repeats = std::stoi(arguments[4]);
  const std::string demo = folder + "/charging.ridge";
  if (!std::filesystem::exists(demo) && !write_demo(folder, {sessions, 1})) return 1;
  const std::string large = write_large(folder + "/large");
  test::Browser browser(1280, 800);
  // The page's own clock, two frames after it was loaded: then what was drawn stands.
  browser.command("Page.addScriptToEvaluateOnNewDocument",
                  {{"source",
                    "addEventListener('load', () => requestAnimationFrame(() => requestAnimationFrame(() => { "
                    "window.drawnAt = performance.now(); })))"}});
  const bool is_done = measure(demo, fmt::format("the demo, {} sessions", sessions).c_str(), repeats, browser) &&
                       measure(large, "300 tables, 3,000 columns", repeats, browser);
  return is_done ? 0 : 1;
}
