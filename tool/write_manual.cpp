// Writes the man pages of the tool into a folder, when the project is built.
#include <filesystem>
#include <fstream>
#include <iostream>

#include "juniper.h"
#include "manual.h"

int main(int count, char** arguments) {
  if (count != 2) {
    std::cerr << "usage: juniper_write_manual FOLDER\n";
    return 2;
  }
  using namespace juniper::tool;
  const std::filesystem::path folder(arguments[1]);
  std::filesystem::create_directories(folder);
  Common common;
  const CommandLine line = command_line(common);
  std::ofstream(folder / "juniper.1") << man_page(line);
  for (const Command& command : line.commands)
    std::ofstream(folder / ("juniper-" + command.name + ".1")) << man_page(line, command);
  return 0;
}
