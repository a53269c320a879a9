#include "demo_walk.h"

#include <fmt/format.h>

#include <filesystem>

#include "juniper/ask.h"
#include "juniper/baseline.h"
#include "juniper/links.h"
#include "juniper/refactor.h"
#include "juniper/weigh.h"

namespace juniper::tool {

namespace {

class Walk {
 public:
  Walk(std::string directory, const Options& options, Console& console)
      : model_((std::filesystem::path(directory) / "charging.ridge").string()), options_(options), console_(console) {}

  Result<void> run() {
    for (const auto step : {&Walk::load_step, &Walk::weigh_step, &Walk::links_step, &Walk::ask_step,
                            &Walk::baseline_step, &Walk::refactor_step, &Walk::check_step}) {
      if (auto done = (this->*step)(); !done) return done;
    }
    return {};
  }

 private:
  // A step: what is asked, the command that answers, and what to look at.
  void announce(std::string_view question, std::string_view command, std::string_view comment) {
    console_.clear_progress();
    const bool color = console_.render_options().color == Color::on;
    ++number_;
    const std::string title = fmt::format("{}. {}", number_, question);
    console_.print(color ? fmt::format("\n\033[1;35m{}\033[0m\n", title) : fmt::format("\n{}\n", title));
    console_.print(color ? fmt::format("\033[1m$ juniper {}\033[0m\n", command)
                         : fmt::format("$ juniper {}\n", command));
    console_.print(fmt::format("{}\n\n", comment));
  }

  Result<Dataset> open() const { return Dataset::open(model_, options_); }

  Result<void> load_step() {
    const auto loaded = load(model_, options_, {Reload::always, ""});
    if (!loaded) return tl::unexpected(loaded.error());
    announce("Encode the files: what did each table and calculated column cost?", fmt::format("load {}", model_),
             "Seven calculated columns are computed and stored, for every session, at each load.");
    console_.print(report(*loaded));
    return {};
  }

  Result<void> weigh_step() {
    const auto dataset = open();
    if (!dataset) return tl::unexpected(dataset.error());
    announce("What is heavy, why, and who uses it?", fmt::format("weigh {} --top 14", model_),
             "What weighs most is a receipt number, different in every row, that nothing uses. sessions.price_paid "
             "stands high\n"
             "as well: a real, different in nearly every row, stored for the sake of one measure.");
    console_.print(report(weigh(*dataset).value(), WeighView{WeighOrder::bytes, 14}));
    return {};
  }

  Result<void> links_step() {
    const auto dataset = open();
    if (!dataset) return tl::unexpected(dataset.error());
    announce("Do the links hold?", fmt::format("links {}", model_),
             "Sessions carry tariff codes that are in no list (their price is null, their revenue missing), and five "
             "of six\n"
             "cards are never used.");
    const auto uses = links(*dataset);
    if (!uses) return tl::unexpected(uses.error());
    console_.print(report(*uses));
    return {};
  }

  Result<void> ask_step() {
    const auto dataset = open();
    if (!dataset) return tl::unexpected(dataset.error());
    const std::string condition = "days.year = 2025";
    announce(
        "What do the reports show?", fmt::format("ask {} regions --where '{}'", model_, condition),
        "A saved query, narrowed for one run. avg_price averages a ratio of single sessions; price divides the sums.");
    const auto regions = ask(*dataset, {"regions", {condition}});
    if (!regions) return tl::unexpected(regions.error());
    console_.print(report(*regions));
    return {};
  }

  Result<void> baseline_step() {
    const auto dataset = open();
    if (!dataset) return tl::unexpected(dataset.error());
    announce("Before anything changes: record every query", fmt::format("baseline {}", model_),
             "Text files, one for each query, that diff well in version control.");
    const auto recorded = baseline(*dataset, baseline_path(model_));
    if (!recorded) return tl::unexpected(recorded.error());
    console_.print(report(*recorded));
    return {};
  }

  Result<void> refactor_step() {
    const auto dataset = open();
    if (!dataset) return tl::unexpected(dataset.error());
    announce("Turn stored columns into measures that iterate",
             fmt::format("refactor {} inline sessions.price_paid --write", model_),
             "price_paid is only ever aggregated: its expression moves into avg_price, and the columns that it was "
             "built on,\n"
             "three levels down, go with it. Every row and every query is compared before a character is written.");
    const auto refactoring = refactor(*dataset, "inline sessions.price_paid");
    if (!refactoring) return tl::unexpected(refactoring.error());
    console_.print(report(*refactoring));
    return write(*dataset, *refactoring);
  }

  Result<void> check_step() {
    const auto dataset = open();
    if (!dataset) return tl::unexpected(dataset.error());
    announce("Did any number move?", fmt::format("check {}", model_),
             "The same queries over the lighter model, against what was recorded before.");
    const auto checked = check(*dataset, baseline_path(model_));
    if (!checked) return tl::unexpected(checked.error());
    console_.print(report(*checked));
    console_.print(
        fmt::format("\nThat is the walk. Go on with {0}: change a measure and run `juniper check {0}`.\n", model_));
    return {};
  }

  std::string model_;
  const Options& options_;
  Console& console_;
  int number_ = 0;
};

}  // namespace

int walk_demo(const std::string& directory, const DemoOptions& demo, const Options& options, Console& console) {
  console.progress({"generating the charging network", demo.sessions, 0, 0});
  if (const auto written = write_demo(directory, demo); !written) {
    console.clear_progress();
    return console.fail(written.error());
  }
  console.clear_progress();
  console.print(fmt::format("A made-up charging network with {} sessions is in {}.\n", demo.sessions, directory));
  const auto walked = Walk(directory, options, console).run();
  console.clear_progress();
  return walked ? 0 : console.fail(walked.error());
}

}  // namespace juniper::tool
