// Runs the tool as its users do: a process of its own, whose output goes nowhere.
#pragma once

#include <fcntl.h>
#include <spawn.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cstdint>
#include <cstdlib>
#include <iostream>
#include <string>
#include <vector>

#include "timing.h"

namespace bench {

struct ToolRun {
  double milliseconds = 0;
  std::uint64_t peak_bytes = 0;
};

// Ends the benchmark if the tool fails.
inline ToolRun run_tool(std::vector<std::string> words) {
  words.insert(words.begin(), JUNIPER_TOOL);
  std::vector<char*> arguments;
  for (std::string& word : words) arguments.push_back(word.data());
  arguments.push_back(nullptr);
  posix_spawn_file_actions_t output;
  posix_spawn_file_actions_init(&output);
  posix_spawn_file_actions_addopen(&output, STDOUT_FILENO, "/dev/null", O_WRONLY, 0);
  ToolRun run;
  run.milliseconds = milliseconds_of([&] {
    pid_t child = 0;
    int status = 0;
    rusage usage{};
    if (posix_spawn(&child, arguments[0], &output, nullptr, arguments.data(), environ) != 0 ||
        wait4(child, &status, 0, &usage) != child || status != 0) {
      std::cerr << "the tool failed\n";
      std::exit(3);
    }
    run.peak_bytes = static_cast<std::uint64_t>(usage.ru_maxrss) * 1024;
  });
  posix_spawn_file_actions_destroy(&output);
  return run;
}

}  // namespace bench
