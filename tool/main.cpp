// juniper: the command line of Juniper Ridge. Each command parses its arguments, calls one function of the library and
// prints what it gives.
#include <fmt/format.h>
#include <malloc.h>
#include <sys/mman.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <csignal>
#include <cstdlib>
#include <filesystem>
#include <functional>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "console.h"
#include "demo_walk.h"
#include "juniper/ask.h"
#include "juniper/audit.h"
#include "juniper/baseline.h"
#include "juniper/dataset.h"
#include "juniper/describe.h"
#include "juniper/draft.h"
#include "juniper/explain.h"
#include "juniper/format.h"
#include "juniper/links.h"
#include "juniper/refactor.h"
#include "juniper/replay.h"
#include "juniper/report.h"
#include "juniper/scan.h"
#include "juniper/sql.h"
#include "juniper/unfold.h"
#include "juniper/value.h"
#include "juniper/weigh.h"

namespace {

using namespace juniper;
using tool::Console;

enum class When { automatic, always, never };

// What the options of a command line hold.
struct Arguments {
  Format format = Format::terminal;
  When color = When::automatic;
  bool quiet = false;
  unsigned threads = 0;
  std::string today;
  std::vector<std::string> settings;
  bool strict = false;
  std::string store;
  std::string model;
  LoadSettings load;
  bool verify = false;
  std::string output;
  std::string before;
  std::string log;
  WeighView weigh;
  std::size_t samples = 5;
  std::uint64_t memory = 0;  // 0: no limit
  Question question;
  std::string against;
  SqlDialect dialect = SqlDialect::sqlite;
  std::string name;
  bool show_hidden = false;
  std::vector<std::string> steps;
  std::vector<std::string> at;
  std::vector<std::string> files;
  bool check = false;
  std::string definition;
  std::vector<std::string> queries;
  bool keep = false;
  bool write = false;
  RefactorSettings refactoring;
  bool all_safe = false;
  std::string folder;
  AuditSettings audit;
  std::string sarif;
  BaselineSettings baseline;
  CheckSettings checking;
  ReplaySettings replay;
  unsigned clients = 0;  // 0: nothing is replayed
  std::string junit;
  std::string demo_folder = "charging-demo";
  DemoOptions demo;
};

bool colored(When when, int descriptor) {
  if (when != When::automatic) return when == When::always;
  return ::isatty(descriptor) != 0 && std::getenv("NO_COLOR") == nullptr;
}

// Opens the model and hands it to the command; prints what went wrong otherwise.
template <class Command>
int with_dataset(const Arguments& arguments, const Options& options, Console& console, const Command& command) {
  const auto dataset = Dataset::open(arguments.model, options);
  console.clear_progress();
  if (dataset) console.warn(dataset->warnings());
  return dataset ? command(*dataset) : console.fail(dataset.error());
}

template <class Value>
int print_or_fail(const Result<Value>& result, const Console& console) {
  if (!result) return console.fail(result.error());
  console.print(report(*result));
  return 0;
}

int run_scan(const Arguments& arguments, const Options& options, Console& console) {
  const std::string folder =
      arguments.output.empty() ? "." : std::filesystem::path(arguments.output).parent_path().string();
  const auto scanned = scan(arguments.files, folder.empty() ? "." : folder, options);
  console.clear_progress();
  if (!scanned) return console.fail(scanned.error());
  if (arguments.output.empty()) {
    console.print(scanned->text);
    return 0;
  }
  const auto written = write_new(*scanned, arguments.output);
  if (!written) return console.fail(written.error());
  console.print(report(*scanned));
  return 0;
}

int run_load(const Arguments& arguments, const Options& options, Console& console) {
  const auto print_verification = [&] { return print_or_fail(verify(arguments.model, options), console); };
  // A store alone can be verified, and not loaded.
  if (arguments.verify && std::filesystem::path(arguments.model).extension() == ".jrs") return print_verification();
  const auto loaded = load(arguments.model, options, arguments.load);
  console.clear_progress();
  if (loaded) console.warn(loaded->warnings);
  const int status = print_or_fail(loaded, console);
  return status == 0 && arguments.verify ? print_verification() : status;
}

int run_weigh(const Arguments& arguments, const Options& options, Console& console) {
  return with_dataset(arguments, options, console, [&](const Dataset& dataset) {
    QueryLog log;
    if (!arguments.log.empty()) {
      auto read = read_query_log(arguments.log);
      if (!read) return console.fail(read.error());
      log = std::move(*read);
    }
    const Weighing weighing = arguments.log.empty() ? weigh(dataset) : weigh(dataset, log);
    console.warn(weighing.log_problems);
    if (!arguments.before.empty()) {
      const auto changes = weigh_against(weighing, arguments.before);
      if (!changes) return console.fail(changes.error());
      console.print(report(*changes, arguments.weigh.top));
      return 0;
    }
    const auto made = report(weighing, arguments.weigh);
    if (!made) return console.fail(made.error());
    console.print(*made);
    return 0;
  });
}

int run_audit(const Arguments& arguments, const Options& options, Console& console) {
  return with_dataset(arguments, options, console, [&](const Dataset& dataset) {
    const auto found = audit(dataset, arguments.audit);
    console.clear_progress();
    if (found && !arguments.sarif.empty()) {
      const auto written = write_sarif(*found, arguments.sarif);
      if (!written) return console.fail(written.error());
    }
    const int status = print_or_fail(found, console);
    return status == 0 && !found->findings.empty() ? 1 : status;
  });
}

int run_links(const Arguments& arguments, const Options& options, Console& console) {
  return with_dataset(arguments, options, console, [&](const Dataset& dataset) {
    return print_or_fail(links(dataset, arguments.samples), console);
  });
}

int run_against(const Arguments& arguments, const Options& options, Console& console);

// Set by Ctrl-C while a question is answered.
const auto called_off = std::make_shared<std::atomic<bool>>(false);

// While it lives, Ctrl-C calls off the question; the second one ends the program as ever.
class CancelOnInterrupt {
 public:
  CancelOnInterrupt() { std::signal(SIGINT, on_interrupt); }
  ~CancelOnInterrupt() { std::signal(SIGINT, SIG_DFL); }
  CancelOnInterrupt(const CancelOnInterrupt&) = delete;
  CancelOnInterrupt& operator=(const CancelOnInterrupt&) = delete;

 private:
  static void on_interrupt(int) {
    called_off->store(true);
    std::signal(SIGINT, SIG_DFL);
  }
};

int run_ask(const Arguments& arguments, const Options& options, Console& console) {
  if (!arguments.against.empty()) return run_against(arguments, options, console);
  return with_dataset(arguments, options, console, [&](const Dataset& dataset) {
    const CancelOnInterrupt cancelling;
    const auto answer = ask(dataset, arguments.question);
    console.clear_progress();
    if (answer) console.warn(answer->warnings);
    return print_or_fail(answer, console);
  });
}

int run_against(const Arguments& arguments, const Options& options, Console& console) {
  return with_dataset(arguments, options, console, [&](const Dataset& dataset) {
    const auto agreement = against_sqlite(dataset, arguments.question);
    if (!agreement) return console.fail(agreement.error());
    console.print(report(*agreement));
    return agreement->same() ? 0 : 1;
  });
}

int run_describe(const Arguments& arguments, const Options& options, Console& console) {
  const auto model = read_model(arguments.model, options);
  if (!model) return console.fail(model.error());
  console.warn(model->warnings());
  return print_or_fail(describe(*model, arguments.name, arguments.show_hidden ? Hidden::shown : Hidden::left_out),
                       console);
}

int run_explain(const Arguments& arguments, const Options& options, Console& console) {
  return with_dataset(arguments, options, console, [&](const Dataset& dataset) {
    const CancelOnInterrupt cancelling;
    const auto steps = explain(dataset, arguments.question);
    console.clear_progress();
    return print_or_fail(steps, console);
  });
}

int run_sql(const Arguments& arguments, const Options& options, Console& console) {
  return with_dataset(arguments, options, console, [&](const Dataset& dataset) {
    const auto statement = sql(dataset, arguments.question, arguments.dialect);
    if (!statement) return console.fail(statement.error());
    console.print(*statement);
    return 0;
  });
}

int run_unfold(const Arguments& arguments, const Options& options, Console& console) {
  return with_dataset(arguments, options, console, [&](const Dataset& dataset) {
    return print_or_fail(unfold(dataset, arguments.name, arguments.at, arguments.samples), console);
  });
}

int run_refactor(const Arguments& arguments, const Options& options, Console& console) {
  const bool apply = arguments.all_safe || (!arguments.steps.empty() && arguments.steps[0] == "apply");
  if (arguments.all_safe != arguments.steps.empty() || (apply && arguments.steps.size() == 1)) {
    fmt::print(stderr, "error: name steps, or `apply` and codes or all, or --all-safe alone\n");
    return 2;
  }
  std::string plan;
  for (const std::string& word : arguments.steps) plan += (plan.empty() ? "" : " ") + word;
  std::vector<std::string> codes;
  if (apply && !arguments.all_safe && arguments.steps[1] != "all")
    codes.assign(arguments.steps.begin() + 1, arguments.steps.end());
  return with_dataset(arguments, options, console, [&](const Dataset& dataset) {
    const auto refactoring =
        apply ? apply_remedies(dataset, codes, arguments.refactoring) : refactor(dataset, plan, arguments.refactoring);
    console.clear_progress();
    if (!refactoring) return console.fail(refactoring.error());
    console.print(report(*refactoring));
    if (!refactoring->proved()) return 1;
    if (!arguments.write) return 0;
    const auto written = write(dataset, *refactoring);
    return written ? 0 : console.fail(written.error());
  });
}

int run_draft(const Arguments& arguments, const Options& options, Console& console) {
  return with_dataset(arguments, options, console, [&](const Dataset& dataset) {
    const auto made = draft(dataset, arguments.definition, arguments.queries);
    if (!made) return console.fail(made.error());
    console.print(report(*made));
    if (!arguments.keep) return 0;
    const auto kept = keep(dataset, *made);
    return kept ? 0 : console.fail(kept.error());
  });
}

int run_format(const Arguments& arguments, const Options&, Console& console) {
  int status = 0;
  for (const std::string& file : arguments.files) {
    const auto made = format_file(file, arguments.check ? Formatting::check : Formatting::write);
    if (!made) return console.fail(made.error());
    if (!made->changed) continue;
    if (arguments.check) status = 1;
    fmt::print("{}", arguments.check ? made->diff : made->path + "\n");
  }
  return status;
}

std::string baseline_folder(const Arguments& arguments) {
  return arguments.folder.empty() ? baseline_path(arguments.model) : arguments.folder;
}

int run_baseline(const Arguments& arguments, const Options& options, Console& console) {
  return with_dataset(arguments, options, console, [&](const Dataset& dataset) {
    const auto recorded = baseline(dataset, baseline_folder(arguments), arguments.baseline);
    console.clear_progress();
    return print_or_fail(recorded, console);
  });
}

int run_check(const Arguments& arguments, const Options& options, Console& console) {
  return with_dataset(arguments, options, console, [&](const Dataset& dataset) {
    if (arguments.clients != 0) {
      ReplaySettings settings = arguments.replay;
      settings.clients = arguments.clients;
      const auto replayed = replay(dataset, settings);
      console.clear_progress();
      if (!replayed) return console.fail(replayed.error());
      console.print(report(*replayed));
      return replayed->passed() ? 0 : 1;
    }
    const auto checked = check(dataset, baseline_folder(arguments), arguments.checking);
    console.clear_progress();
    if (!checked) return console.fail(checked.error());
    if (!arguments.junit.empty()) {
      if (const auto written = write_junit(*checked, arguments.model, arguments.junit); !written)
        return console.fail(written.error());
    }
    console.print(report(*checked));
    return checked->passed() ? 0 : 1;
  });
}

int run_demo(const Arguments& arguments, const Options& options, Console& console) {
  return tool::walk_demo(arguments.demo_folder, arguments.demo, options, console);
}

using Run = std::function<int(const Arguments&, const Options&, Console&)>;

// Declares all commands and their options; `chosen` becomes the one that was called.
// Turns an amount of memory into bytes; gives what is wrong with it, or nothing.
std::string bytes_of(std::string& text) {
  const std::string written = text;
  try {
    if (!text.starts_with('-')) return CLI::AsSizeValue(true)(text);
  } catch (const CLI::ValidationError&) {
  }
  return fmt::format("'{}' is no amount of memory: write a number and B, kB, MB or GB, as in 500MB", written);
}

void declare(CLI::App& app, Arguments& arguments, Run& chosen) {
  app.require_subcommand(1);
  app.fallthrough();
  app.set_version_flag("--version", "juniper 0.1.0");
  app.add_option("--format", arguments.format, "How to print: terminal, json, csv or markdown")
      ->transform(CLI::CheckedTransformer(std::map<std::string, Format>{{"terminal", Format::terminal},
                                                                        {"json", Format::json},
                                                                        {"csv", Format::csv},
                                                                        {"markdown", Format::markdown}},
                                          CLI::ignore_case))
      ->option_text("FORMAT");
  app.add_option("--color", arguments.color, "When to color: auto, always or never")
      ->transform(CLI::CheckedTransformer(
          std::map<std::string, When>{{"auto", When::automatic}, {"always", When::always}, {"never", When::never}},
          CLI::ignore_case))
      ->option_text("WHEN");
  app.add_flag("--quiet", arguments.quiet, "No progress");
  app.add_option("--threads", arguments.threads, "Threads to use; 0 is one for each core")
      ->check(CLI::Range(0U, 1024U))
      ->option_text("N");
  app.add_option("--memory", arguments.memory, "How much memory answering a question may take: 500MB, 2GB")
      ->transform(CLI::Validator(bytes_of, ""))
      ->option_text("BYTES");
  app.add_option("--today", arguments.today, "What today() gives, as YYYY-MM-DD")->option_text("DATE");
  app.add_option("--set", arguments.settings, "The value of a parameter, as NAME=VALUE; may be repeated")
      ->option_text("NAME=VALUE")
      ->take_all();
  app.add_flag("--strict", arguments.strict, "Warnings are errors");
  app.add_option("--store", arguments.store, "The store file; beside the model text by default")->option_text("FILE");

  const auto command = [&](const std::string& name, const std::string& what,
                           int (*run)(const Arguments&, const Options&, Console&)) {
    CLI::App* const added = app.add_subcommand(name, what);
    added->callback([&chosen, run] { chosen = run; });
    if (name != "demo" && name != "format" && name != "scan")
      added->add_option("MODEL", arguments.model, "A .ridge text, or the .jrs store made from it")->required();
    return added;
  };
  CLI::App* const scan_command = command("scan", "Propose a model text for CSV files: types, keys, links", run_scan);
  scan_command->add_option("SOURCE", arguments.files, "CSV files, folders of them, or a datapackage.json")->required();
  scan_command->add_option("--output", arguments.output, "Write the text to this new file, and tell what it holds")
      ->option_text("FILE");
  CLI::App* const load_command =
      command("load", "Read the sources into the store; what each table and calculated column costs", run_load);
  load_command->add_flag_callback(
      "--again", [&] { arguments.load.reload = Reload::always; }, "Read everything, also what has not changed");
  load_command
      ->add_option("--reject", arguments.load.rejects,
                   "Leave out the rows that can't be read, and write them here with the reasons, as CSV")
      ->option_text("FILE");
  load_command
      ->add_option("--order", arguments.load.order,
                   "In which order to store rows: auto (one in which they take fewer bytes is looked for) or files; as "
                   "the store has them by default")
      ->transform(CLI::CheckedTransformer(
          std::map<std::string, RowOrder>{{"auto", RowOrder::smallest}, {"files", RowOrder::as_in_files}},
          CLI::ignore_case))
      ->option_text("ORDER");
  load_command->add_flag("--verify", arguments.verify, "Then read all of the store and compare every checksum");
  CLI::App* const weigh_command = command("weigh", "Where the bytes are, and who uses them", run_weigh);
  weigh_command
      ->add_option("--sort", arguments.weigh.sort,
                   "Sort the parts by bytes, rows, distinct, nulls, bits, uses (bytes by logged query) or name")
      ->option_text("FIGURE");
  weigh_command->add_option("--top", arguments.weigh.top, "Show the first N parts")->option_text("N");
  weigh_command
      ->add_option("--log", arguments.log,
                   "Count the queries of a log that read each column: lines of {\"query\": \"…\"}")
      ->option_text("FILE");
  weigh_command
      ->add_option("--before", arguments.before,
                   "Show what differs from an earlier weighing: a .jrs store, or what --format json or csv printed")
      ->option_text("FILE");
  command("links", "Keys without a match, rows that nothing reaches", run_links)
      ->add_option("--samples", arguments.samples, "Orphan keys to show of each link")
      ->option_text("N");
  CLI::App* const audit_command =
      command("audit", "What is wasteful or wrong, worst first, with evidence, remedy and what it saves", run_audit);
  audit_command->add_option("--only", arguments.audit.only, "Look for this kind of finding alone; may be repeated")
      ->option_text("CODE");
  audit_command->add_option("--ignore", arguments.audit.ignore, "Leave out this kind of finding; may be repeated")
      ->option_text("CODE");
  audit_command
      ->add_option_function<std::string>(
          "--min-saving",
          [&](const std::string& text) {
            if (!text.empty() && text.back() == '%') {
              double percent = 0;
              if (!CLI::detail::lexical_cast(text.substr(0, text.size() - 1), percent) || percent < 0 || percent > 100)
                throw CLI::ValidationError("--min-saving", "takes bytes like 5kB or a part of the store like 1%");
              arguments.audit.min_share = percent / 100;
              return;
            }
            std::string bytes = text;
            if (const std::string error = CLI::AsSizeValue(true)(bytes); !error.empty())
              throw CLI::ValidationError("--min-saving", error);
            arguments.audit.min_saving = std::stoull(bytes);
          },
          "Show what saves at least so many bytes, or that part of the store: 2000, 5kB, 1MB, 0.5%")
      ->option_text("BYTES");
  audit_command->add_flag(
      "--fast", arguments.audit.fast,
      "Estimate savings from a sample of the rows of large tables, and leave out what needs all rows");
  audit_command
      ->add_option("--sarif", arguments.sarif, "Write the findings to this file, too, as SARIF for code reviews")
      ->option_text("FILE");
  CLI::App* const describe_command =
      command("describe", "What is defined, on what it rests, who uses it", run_describe);
  describe_command->add_option("NAME", arguments.name, "A table, column, measure, parameter or query; all by default");
  describe_command->add_flag("--hidden", arguments.show_hidden, "Hidden things, too");
  const auto question = [&](CLI::App* asking) {
    asking
        ->add_option("QUERY", arguments.question.query,
                     "A saved query's name, or clauses: 'by stations.region show revenue'")
        ->required();
    asking->add_option("--where", arguments.question.where, "A further condition, joined by `and`; may be repeated")
        ->option_text("CONDITION")
        ->take_all();
    asking
        ->add_option("--draft", arguments.question.drafts,
                     "Another definition for this question: 'measure NAME = …'; may be repeated")
        ->option_text("MEASURE")
        ->take_all();
    return asking;
  };
  CLI::App* const ask_command = question(command("ask", "Answer a saved query, or one typed here", run_ask));
  ask_command
      ->add_option("--plan", arguments.question.plan,
                   "How to answer: engine, or naive (row by row and slice by slice, to hold the engine against)")
      ->transform(CLI::CheckedTransformer(std::map<std::string, Plan>{{"engine", Plan::engine}, {"naive", Plan::naive}},
                                          CLI::ignore_case))
      ->option_text("PLAN");
  ask_command
      ->add_option("--against", arguments.against,
                   "Compare every cell with an independent engine's answer instead: sqlite")
      ->check(CLI::IsMember({"sqlite"}))
      ->option_text("ENGINE");
  question(command("explain", "How a query is answered: steps, rows, bytes, time", run_explain));
  CLI::App* const sql_command = command("sql", "The query as one plain SQL statement", run_sql);
  question(sql_command);
  sql_command->add_option("--dialect", arguments.dialect, "In whose words: sqlite or postgresql")
      ->transform(CLI::CheckedTransformer(
          std::map<std::string, SqlDialect>{{"sqlite", SqlDialect::sqlite}, {"postgresql", SqlDialect::postgresql}},
          CLI::ignore_case))
      ->option_text("DIALECT");
  CLI::App* const unfold_command =
      command("unfold", "Why a number is what it is: a measure opened into its parts, down to rows", run_unfold);
  unfold_command->add_option("MEASURE", arguments.name, "A measure, or an expression over measures")->required();
  unfold_command
      ->add_option("--at", arguments.at, "The slice, as a condition: 'stations.region = \"Coast\"'; may be repeated")
      ->option_text("CONDITION")
      ->take_all();
  unfold_command->add_option("--samples", arguments.samples, "How many rows to show of each aggregate")
      ->option_text("N");
  CLI::App* const format_command = command("format", "Lay model texts out in the one layout", run_format);
  format_command->add_option("FILE", arguments.files, "The .ridge texts")->required();
  format_command->add_flag("--check", arguments.check,
                           "Write nothing; show what would change, and fail if anything does");
  CLI::App* const draft_command =
      command("draft", "Another definition of a measure beside the present one: what differs, and where", run_draft);
  draft_command->add_option("MEASURE", arguments.definition, "'measure NAME = EXPRESSION'")->required();
  draft_command->add_option("QUERY", arguments.queries,
                            "Queries to look at; by default all saved ones that depend on the measure");
  draft_command->add_flag("--keep", arguments.keep, "Write the draft's definition into the model text");
  CLI::App* const refactor_command =
      command("refactor", "Change the model text in one or more steps, with proofs and a ledger", run_refactor);
  refactor_command->add_option(
      "PLAN", arguments.steps,
      "Steps one behind the other: inline TABLE.COLUMN (a calculated column moves into the measures that "
      "use it), store 'TABLE.NAME = EXPRESSION' (the other way), split TABLE.COLUMN [into '(DATE, TIME)'], "
      "retype TABLE.COLUMN TYPE, round TABLE.COLUMN TYPE, drop TABLE.COLUMN or MEASURE, relink TABLE.COLUMN (by the "
      "columns that a key is put together from), trim TABLE (to the rows that links lead to), reorder TABLE by "
      "'(COLUMN, …)'; or apply CODE… or all: what the audit's findings name");
  refactor_command->add_flag("--all-safe", arguments.all_safe, "The same as apply all");
  refactor_command->add_option("--probes", arguments.refactoring.most_probes, "How many made-up queries to ask at most")
      ->capture_default_str()
      ->option_text("N");
  refactor_command
      ->add_option("--probe-rows", arguments.refactoring.most_probe_rows, "How many rows these may read in all")
      ->capture_default_str()
      ->option_text("N");
  refactor_command
      ->add_option("--plan", arguments.refactoring.row_plan,
                   "How to prove rows: engine, or naive (row by row, which shares nothing with the engine)")
      ->transform(CLI::CheckedTransformer(std::map<std::string, Plan>{{"engine", Plan::engine}, {"naive", Plan::naive}},
                                          CLI::ignore_case))
      ->option_text("PLAN");
  refactor_command
      ->add_option("--against", arguments.refactoring.against,
                   "Let an independent engine answer each saved query and row proof, too: sqlite")
      ->transform(
          CLI::CheckedTransformer(std::map<std::string, Against>{{"sqlite", Against::sqlite}}, CLI::ignore_case))
      ->option_text("ENGINE");
  refactor_command->add_flag("--write", arguments.write, "Write the change, when it is proved");
  CLI::App* const baseline_command = command(
      "baseline", "Record the results and times of saved queries, of files of queries and of a log", run_baseline);
  baseline_command->add_option("--dir", arguments.folder, "The folder of the baseline")->option_text("DIR");
  baseline_command
      ->add_option("--queries", arguments.baseline.query_files, "Files of further queries: query NAME { … }")
      ->option_text("FILE…");
  baseline_command->add_option("--log", arguments.baseline.log, "A log of captured queries, JSON lines")
      ->option_text("FILE");
  baseline_command
      ->add_option_function<std::vector<std::string>>(
          "--expect",
          [&arguments](const std::vector<std::string>& pairs) {
            for (const std::string& pair : pairs) {
              const std::size_t at = pair.find('=');
              if (at == std::string::npos || at == 0) throw CLI::ValidationError("--expect", "write QUERY=FILE.csv");
              arguments.baseline.expected[pair.substr(0, at)] = pair.substr(at + 1);
            }
          },
          "Numbers that somebody else gave for a query; each check compares with them, too")
      ->option_text("QUERY=FILE");
  CLI::App* const check_command =
      command("check", "Compare the queries with the baseline, or with another model; replay a log with many clients",
              run_check);
  CheckSettings& checking = arguments.checking;
  check_command->add_option("--dir", arguments.folder, "The folder of the baseline")->option_text("DIR");
  check_command->add_option("--base", checking.base, "Another model text to compare with")->option_text("MODEL");
  check_command->add_option("--base-rev", checking.base_revision, "The model text as git has it at this revision")
      ->option_text("REV");
  check_command
      ->add_option("--relative", checking.tolerance.relative, "How far reals may be apart, of their size (1e-9)")
      ->check(CLI::NonNegativeNumber)
      ->capture_default_str()
      ->option_text("R");
  check_command->add_option("--absolute", checking.tolerance.absolute, "… or so far, whatever their size (0)")
      ->check(CLI::NonNegativeNumber)
      ->capture_default_str()
      ->option_text("R");
  check_command
      ->add_option("--speed", checking.speed, "Compare times, too: warm, or cold as well, each on a store opened anew")
      ->transform(CLI::CheckedTransformer(
          std::map<std::string, SpeedCheck>{{"warm", SpeedCheck::warm}, {"cold", SpeedCheck::warm_and_cold}},
          CLI::ignore_case))
      ->option_text("warm|cold");
  check_command
      ->add_option("--allowed", checking.timing.allowed_ratio,
                   "More than so many times the base's time is slower (1.1)")
      ->check(CLI::Range(1.01, 100.0))
      ->capture_default_str()
      ->option_text("RATIO");
  check_command->add_option("--seconds", checking.timing.seconds, "How long the times of a query may be measured (2)")
      ->check(CLI::PositiveNumber)
      ->capture_default_str()
      ->option_text("S");
  check_command->add_option("--budgets", checking.budgets, "A file of lines QUERY within 50 ms")->option_text("FILE");
  check_command->add_option("--accept", checking.accept, "Queries whose new results go into the baseline")
      ->option_text("QUERY…");
  check_command->add_option("--junit", arguments.junit, "Write the outcome as JUnit XML, too")->option_text("FILE");
  CLI::Option* const clients =
      check_command->add_option("--clients", arguments.clients, "Replay with so many clients at once instead")
          ->check(CLI::Range(1U, 1024U))
          ->option_text("N");
  check_command->add_option("--for", arguments.replay.seconds, "… for so many seconds (10)")
      ->needs(clients)
      ->check(CLI::PositiveNumber)
      ->capture_default_str()
      ->option_text("S");
  check_command->add_option("--log", arguments.replay.log, "… the queries of this log; all saved ones by default")
      ->needs(clients)
      ->option_text("FILE");
  CLI::App* const demo_command = command("demo", "Make the demo and walk through it", run_demo);
  demo_command->add_option("DIR", arguments.demo_folder, "Where to write it")->capture_default_str();
  demo_command->add_option("--sessions", arguments.demo.sessions, "Rows of the largest table")
      ->check(CLI::Range(std::uint64_t{1000}, std::uint64_t{200'000'000}))
      ->capture_default_str()
      ->option_text("N");
  demo_command->add_option("--seed", arguments.demo.seed, "The same seed gives the same bytes")
      ->capture_default_str()
      ->option_text("N");
}

bool is_command(const CLI::App& app, const std::string& word) {
  const auto commands = app.get_subcommands([&](const CLI::App* command) { return command->get_name() == word; });
  return !commands.empty();
}

std::string command_list(const CLI::App& app) {
  std::string list;
  for (const CLI::App* command : app.get_subcommands(nullptr))
    list += (list.empty() ? " " : ", ") + command->get_name();
  return list;
}

// Columns are large arrays that come and go: memory that is freed serves the next one, instead of going back to the
// system, which would have to clear it again page by page. The first of it comes in large pages where the system has
// them: a million groups take thousands of small ones, which cost a short command more than its work.
void keep_memory() {
  mallopt(M_MMAP_THRESHOLD, 1 << 30);
  mallopt(M_TRIM_THRESHOLD, 1 << 30);
  constexpr std::size_t bytes = std::size_t{64} << 20;
  constexpr std::size_t page = std::size_t{2} << 20;
  void* const all = std::malloc(bytes);
  void* first = all;
  std::size_t room = bytes;
  if (std::align(page, page, first, room) != nullptr) madvise(first, room, MADV_HUGEPAGE);  // no more than a wish
  std::free(all);
}

}  // namespace

int main(int count, char** words) {
  keep_memory();
  Arguments arguments;
  Run chosen;
  CLI::App app("Juniper Ridge: measure, slim down and regression-test columnar analytical models.", "juniper");
  declare(app, arguments, chosen);
  if (count > 1 && words[1][0] != '-' && !is_command(app, words[1])) {
    fmt::print(stderr, "error: there is no command '{}'; the commands are{}\n", words[1], command_list(app));
    return 2;
  }
  try {
    app.parse(count, words);
  } catch (const CLI::ParseError& error) {
    return app.exit(error) == 0 ? 0 : 2;
  }
  Options options;
  options.threads = arguments.threads;
  options.store = arguments.store;
  if (!arguments.today.empty()) {
    const auto today = parse_value(arguments.today, Type{TypeKind::date, 0});
    if (!today) {
      fmt::print(stderr, "error: --today takes a date like 2025-03-01, and found '{}'\n", arguments.today);
      return 2;
    }
    options.today = static_cast<std::int64_t>(today->exact());
  }
  options.reading.strict = arguments.strict;
  options.memory = arguments.memory;
  options.cancelled = called_off;
  for (const std::string& setting : arguments.settings) {
    const std::size_t equals = setting.find('=');
    if (equals == std::string::npos || equals == 0) {
      fmt::print(stderr, "error: --set takes NAME=VALUE, and found '{}'\n", setting);
      return 2;
    }
    options.reading.settings[setting.substr(0, equals)] = setting.substr(equals + 1);
  }
  const Color color = colored(arguments.color, STDOUT_FILENO) ? Color::on : Color::off;
  Console console({arguments.format, color}, arguments.quiet, colored(arguments.color, STDERR_FILENO));
  options.progress = [&console](const Progress& progress) { console.progress(progress); };
  return chosen(arguments, options, console);
}
