// Printing for the command line: results to stdout, messages and progress to stderr.
#pragma once

#include <chrono>
#include <string>
#include <string_view>
#include <vector>

#include "juniper/dataset.h"
#include "juniper/diagnostics.h"
#include "juniper/report.h"

namespace juniper::tool {

// The exit status for errors: 1 for a change that was refused, 2 for wrong usage, 3 for input that can't be read.
int exit_status(const Diagnostics& errors);

// How messages look.
struct MessageLook {
  Color color = Color::off;
  std::size_t width = 0;  // of the window; 0: lines are as wide as they are
};

class Console {
 public:
  Console(RenderOptions render, bool quiet, const MessageLook& messages)
      : render_(std::move(render)), quiet_(quiet), messages_(messages) {}

  void print(const Report& report);
  void print(const QueryResult& result);
  // A text for programs and for people alike: as it is, but safe to show where it goes to a terminal.
  void print(const std::string& text);
  // The same as it is for people; for programs in the chosen format, under a name.
  void print_text(const std::string& name, const std::string& text);
  // What stands in a file now; nothing where it is no plain file, as one may be this output.
  void print_written(const std::string& path);
  // To be asked last: the exit status, once everything is out; where it could not be written, says so.
  int finish(int status);
  // Prints errors and gives the exit status for them.
  int fail(const Diagnostics& errors) const;
  // Prints what is wrong with a command line and gives the exit status for it, 2.
  int wrong_usage(const std::string& problem) const;
  // Prints warnings to stderr.
  void warn(const Diagnostics& warnings) const;
  // Draws a line of progress, with rate and time left, on stderr when that is a terminal; nothing otherwise.
  void progress(const Progress& progress);
  void clear_progress();
  const RenderOptions& render_options() const { return render_; }

 private:
  void write(std::string_view text);
  // Whether --part, if it is given, is one of these; else keeps what there is to choose from.
  bool has_part(const std::vector<std::string>& names);
  // What is rendered in the chosen format.
  void write_rendered(std::string_view text);

  RenderOptions render_;
  bool quiet_;
  MessageLook messages_;
  std::chrono::steady_clock::time_point last_{};
  std::chrono::steady_clock::time_point step_began_{};
  std::string last_step_;
  bool drawn_ = false;
  int output_error_ = 0;
  std::string missing_part_;  // why nothing was printed for --part
};

}  // namespace juniper::tool
