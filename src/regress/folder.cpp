#include "regress/folder.h"

#include <fmt/format.h>

#include <algorithm>
#include <cerrno>
#include <charconv>
#include <cstring>
#include <fstream>
#include <iterator>
#include <sstream>
#include <thread>

#include "base/diagnostics.h"
#include "store/of_dataset.h"
#include "store/store.h"

namespace juniper::regress {

namespace {

namespace fs = std::filesystem;

constexpr std::string_view data_file = "data.txt";
constexpr std::string_view machine_file = "machine.txt";
constexpr std::string_view times_file = "times.txt";
constexpr std::string_view models_folder = "models";
constexpr std::string_view result_ending = ".result";
constexpr std::string_view expected_ending = ".expected.csv";
constexpr std::string_view model_ending = ".model";

// A name as that of a file, and back.
std::string file_name(const std::string& query) {
  std::string name;
  for (const char c : query) {
    const bool plain =
        (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_' || c == '-';
    name += plain ? std::string(1, c) : fmt::format("%{:02X}", static_cast<unsigned char>(c));
  }
  return name;
}

std::string query_name(std::string_view file) {
  std::string name;
  for (std::size_t i = 0; i < file.size(); ++i) {
    unsigned code = 0;
    if (file[i] == '%' && i + 2 < file.size() &&
        std::from_chars(file.data() + i + 1, file.data() + i + 3, code, 16).ec == std::errc()) {
      name += static_cast<char>(code);
      i += 2;
    } else {
      name += file[i];
    }
  }
  return name;
}

Result<void> write_file(const fs::path& path, const std::string& text) {
  std::ofstream file(path, std::ios::binary | std::ios::trunc);
  file << text;
  file.close();
  if (file) return {};
  return tl::unexpected(base::error("JR-901", fmt::format("cannot write {}: {}", path.string(), std::strerror(errno))));
}

Result<void> make_folder(const fs::path& path) {
  std::error_code error;
  fs::create_directories(path, error);
  if (!error) return {};
  return tl::unexpected(
      base::error("JR-901", fmt::format("cannot make the folder {}: {}", path.string(), error.message())));
}

// A folder may be written into when it is new, empty, or a baseline's.
Result<void> prepare_folder(const fs::path& folder) {
  std::error_code error;
  if (fs::exists(folder, error) && !is_baseline(folder) &&
      (!fs::is_directory(folder, error) || !fs::is_empty(folder, error))) {
    return tl::unexpected(base::error("JR-902",
                                      fmt::format("{} holds something other than a baseline", folder.string()),
                                      "name a new folder with --dir"));
  }
  return make_folder(folder / models_folder);
}

std::vector<fs::path> files_ending(const fs::path& folder, std::string_view ending) {
  std::vector<fs::path> paths;
  std::error_code error;
  for (fs::directory_iterator at(folder, error), end; !error && at != end; at.increment(error)) {
    if (at->path().filename().string().ends_with(ending)) paths.push_back(at->path());
  }
  std::sort(paths.begin(), paths.end());
  return paths;
}

std::string without(const fs::path& path, std::string_view ending) {
  const std::string name = path.filename().string();
  return name.substr(0, name.size() - ending.size());
}

std::string write_model(const std::vector<ModelText>& texts) {
  std::string out;
  for (const ModelText& text : texts) out += fmt::format("file\t{}\t{}\n{}\n", text.name, text.text.size(), text.text);
  return out;
}

Result<std::vector<ModelText>> read_model(const fs::path& path, const std::string& text) {
  std::vector<ModelText> texts;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t line = text.find('\n', at);
    const std::string head = text.substr(at, line - at);
    const std::size_t tab = head.rfind('\t');
    std::size_t bytes = 0;
    const bool good = line != std::string::npos && head.starts_with("file\t") && tab > 4 &&
                      std::from_chars(head.data() + tab + 1, head.data() + head.size(), bytes).ec == std::errc() &&
                      line + 1 + bytes < text.size();
    if (!good) {
      const auto number = static_cast<std::uint32_t>(
          std::count(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(at), '\n') + 1);
      return tl::unexpected(base::error_at("JR-904", Place{path.string(), number, 0},
                                           "a line of a file's name and bytes was expected",
                                           "restore the file, or record the baseline again"));
    }
    texts.push_back({head.substr(5, tab - 5), text.substr(line + 1, bytes)});
    at = line + 1 + bytes + 1;
  }
  return texts;
}

std::map<std::string, std::int64_t> read_times(const fs::path& folder) {
  std::map<std::string, std::int64_t> times;
  std::istringstream lines(read_file(folder / times_file).value_or(""));
  for (std::string line; std::getline(lines, line);) {
    if (const std::size_t tab = line.rfind('\t'); tab != std::string::npos)
      times[line.substr(0, tab)] = std::strtoll(line.c_str() + tab + 1, nullptr, 10);
  }
  return times;
}

}  // namespace

std::optional<std::string> read_file(const fs::path& path) {
  std::ifstream file(path, std::ios::binary);
  if (!file) return std::nullopt;
  return std::string{std::istreambuf_iterator<char>(file), std::istreambuf_iterator<char>()};
}

std::string describe_data(const Dataset& dataset) {
  std::string text;
  for (const source::SourceFile& file : store::store_of(dataset).sources) {
    text += fmt::format("{}\t{}\t{}\t{:016x}\n", file.table, fs::path(file.path).filename().string(), file.bytes,
                        file.hash);
  }
  return text;
}

std::string describe_machine(const Dataset& dataset) {
  std::string processor = "unknown";
  std::ifstream facts("/proc/cpuinfo");
  for (std::string line; std::getline(facts, line);) {
    const std::size_t colon = line.find(": ");
    if (!line.starts_with("model name") || colon == std::string::npos) continue;
    processor = line.substr(colon + 2);
    break;
  }
  const unsigned cores = std::thread::hardware_concurrency();
  const unsigned threads = dataset.options().threads == 0 ? cores : dataset.options().threads;
  std::string text = fmt::format("processor\t{}\ncores\t{}\nthreads\t{}\n", processor, cores, threads);
  for (const auto& [name, value] : dataset.model().options().settings)
    text += fmt::format("set\t{}\t{}\n", name, value);
  return text;
}

std::vector<ModelText> relative_texts(const Model& model) {
  std::vector<ModelText> texts = model.texts();
  const fs::path folder = fs::path(model.path()).parent_path();
  for (ModelText& text : texts) {
    const fs::path beside = fs::path(text.name).lexically_relative(folder.empty() ? "." : folder);
    text.name = (beside.empty() ? fs::path(text.name).filename() : beside).generic_string();
  }
  return texts;
}

std::string fingerprint(const std::vector<ModelText>& texts) {
  const std::string all = write_model(texts);
  return fmt::format("{:016x}", store::hash_bytes(std::as_bytes(std::span(all))));
}

bool is_baseline(const fs::path& path) {
  std::error_code error;
  return fs::exists(path / data_file, error);
}

Result<Folder> read_folder(const fs::path& path) {
  Folder folder;
  folder.data = read_file(path / data_file).value_or("");
  folder.machine = read_file(path / machine_file).value_or("");
  folder.times = read_times(path);
  Diagnostics errors;
  const auto take = [&](const Diagnostics& found) { errors.insert(errors.end(), found.begin(), found.end()); };
  for (const fs::path& file : files_ending(path, result_ending)) {
    auto read = read_result(file.string(), read_file(file).value_or(""));
    if (!read) {
      take(read.error());
    } else {
      std::string name = read->query;
      folder.results.emplace(std::move(name), std::move(*read));
    }
  }
  for (const fs::path& file : files_ending(path, expected_ending))
    folder.expected.emplace(query_name(without(file, expected_ending)), read_file(file).value_or(""));
  for (const fs::path& file : files_ending(path / models_folder, model_ending)) {
    auto read = read_model(file, read_file(file).value_or(""));
    if (!read) {
      take(read.error());
    } else {
      folder.models.emplace(without(file, model_ending), std::move(*read));
    }
  }
  if (!errors.empty()) return tl::unexpected(std::move(errors));
  return folder;
}

Result<std::vector<std::string>> write_folder(const fs::path& path, const Folder& folder) {
  if (auto ready = prepare_folder(path); !ready) return tl::unexpected(ready.error());
  std::map<fs::path, std::string> files;
  files.emplace(path / data_file, folder.data);
  files.emplace(path / machine_file, folder.machine);
  std::string times;
  for (const auto& [query, nanoseconds] : folder.times) times += fmt::format("{}\t{}\n", query, nanoseconds);
  files.emplace(path / times_file, times);
  for (const auto& [query, recorded] : folder.results)
    files.emplace(path / (file_name(query) + std::string(result_ending)), write_result(recorded));
  for (const auto& [query, text] : folder.expected)
    files.emplace(path / (file_name(query) + std::string(expected_ending)), text);
  for (const auto& [hash, texts] : folder.models)
    files.emplace(path / models_folder / (hash + std::string(model_ending)), write_model(texts));
  for (const auto& [file, text] : files) {
    if (auto written = write_file(file, text); !written) return tl::unexpected(written.error());
  }
  std::vector<std::string> gone;
  const auto remove_others = [&](const fs::path& from, std::string_view ending) {
    for (const fs::path& file : files_ending(from, ending)) {
      if (files.contains(file)) continue;
      if (ending == result_ending) gone.push_back(query_name(without(file, ending)));
      std::error_code error;
      fs::remove(file, error);
    }
  };
  remove_others(path, result_ending);
  remove_others(path, expected_ending);
  remove_others(path / models_folder, model_ending);
  return gone;
}

}  // namespace juniper::regress
