// The whole command line of juniper: its commands, and the options that all of them take.
#pragma once

#include <memory>
#include <string>

#include "command_line.h"
#include "console.h"
#include "juniper/dataset.h"

namespace juniper::tool {

enum class When : std::uint8_t { automatic, always, never };

// What the options of every command hold.
struct Common {
  Options options;
  Format format = Format::terminal;
  std::string part;
  std::size_t width = 0;  // of the output; 0: that of the window
  bool wide = false;      // as wide as it is
  When color = When::automatic;
  bool quiet = false;
  bool wants_help = false;
  bool wants_version = false;
  std::string help;  // the command that `help` is asked about
};

// The description; options that are read are kept in `common`, which has to live as long.
CommandLine command_line(Common& common);

}  // namespace juniper::tool
