// A model text of a benchmark, opened over the data of a folder.
#pragma once

#include <filesystem>
#include <fstream>
#include <sstream>
#include <string>

#include "juniper/dataset.h"
#include "must.h"

namespace bench {

inline std::string content(const std::string& path) {
  std::ifstream file(path);
  std::ostringstream text;
  text << file.rdbuf();
  return text.str();
}

// Puts a copy of the text into the folder and opens it there. Every byte of its store has been read once.
inline juniper::Dataset open_model(const std::filesystem::path& text_path, const std::string& folder,
                                   unsigned threads) {
  const std::string text = content(text_path);
  const std::filesystem::path path = folder / text_path.filename();
  if (!std::filesystem::exists(path) || content(path) != text) std::ofstream(path) << text;
  juniper::Options options;
  options.threads = threads;
  juniper::Dataset dataset = must(juniper::Dataset::open(path, options));
  std::filesystem::path store = path;
  must(juniper::verify(store.replace_extension(".jrs"), options));
  return dataset;
}

}  // namespace bench
