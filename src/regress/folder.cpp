#include "regress/folder.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <fstream>
#include <optional>
#include <set>
#include <sstream>
#include <thread>

#include "base/diagnostics.h"
#include "base/files.h"
#include "base/git.h"
#include "base/replace_folder.h"
#include "juniper/baseline.h"
#include "store/of_dataset.h"
#include "store/store.h"

namespace juniper::regress {

namespace {

namespace fs = std::filesystem;

constexpr const char* seal_file = "seal.txt";
constexpr const char* data_file = "data.txt";
constexpr const char* machine_file = "machine.txt";
constexpr const char* times_file = "times.txt";
constexpr std::string_view models_folder = "models/";
constexpr std::string_view seal_line = "juniper seal 1\n";
constexpr std::size_t hash_letters = 16;
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

// The name of the query, or of the model, in the name of a file with this ending; nothing for another file.
std::optional<std::string> name_in(std::string_view file, std::string_view ending) {
  if (!file.ends_with(ending)) return std::nullopt;
  return query_name(file.substr(0, file.size() - ending.size()));
}

// --- the seal ---

std::string hash_of(std::string_view text) {
  return fmt::format("{:016x}", store::hash_bytes(std::as_bytes(std::span(text))));
}

std::string write_seal(const std::map<std::string, std::string>& files) {
  std::string seal(seal_line);
  for (const auto& [name, text] : files) seal += fmt::format("{}\t{}\n", hash_of(text), name);
  return seal;
}

// The hash of each file that a seal names. Nothing where it is none: cut off, say.
std::optional<std::map<std::string, std::string>> read_seal(std::string_view seal) {
  std::map<std::string, std::string> hashes;
  if (!seal.starts_with(seal_line) || !seal.ends_with('\n')) return std::nullopt;
  for (seal.remove_prefix(seal_line.size()); !seal.empty(); seal.remove_prefix(seal.find('\n') + 1)) {
    const std::string_view line = seal.substr(0, seal.find('\n'));
    const std::size_t tab = line.find('\t');
    if (tab != hash_letters) return std::nullopt;
    const std::string name(line.substr(tab + 1));
    // It may come from a stranger, and leads to nothing outside of the folder.
    for (const fs::path& part : fs::path(name)) {
      if (part.empty() || part == "/" || part == ".." || part == ".") return std::nullopt;
    }
    if (name.empty()) return std::nullopt;
    hashes.emplace(name, line.substr(0, tab));
  }
  return hashes;
}

std::string seal_at(const fs::path& folder) {
  return base::read_plain_file(folder / seal_file).value_or("");
}

// One that is damaged tells of none of its files that they are its own.
std::optional<std::set<std::string>> own_files(const fs::path& folder) {
  std::error_code error;
  const auto seal = base::read_plain_file(folder / seal_file);
  if (!seal && (fs::exists(folder / seal_file, error) || error)) return std::nullopt;
  std::set<std::string> names;
  if (const auto hashes = read_seal(seal.value_or(""))) {
    for (const auto& [name, hash] : *hashes) names.insert(name);
  }
  return names;
}

tl::unexpected<Diagnostics> damaged(const fs::path& file, std::uint32_t line, std::string message) {
  return tl::unexpected(base::error_at("JR-904", Place{file.string(), line, 0}, std::move(message),
                                       "restore the file, or remove the baseline and record it again"));
}

// All files that the seal names, as they were written.
Result<std::map<std::string, std::string>> read_sealed(const fs::path& folder, const std::string& seal) {
  const auto hashes = read_seal(seal);
  if (!hashes) return damaged(folder / seal_file, 0, "this is no list of a baseline's files");
  std::map<std::string, std::string> files;
  Diagnostics errors;
  for (const auto& [name, hash] : *hashes) {
    auto text = base::read_plain_file(folder / name);
    if (text && hash_of(*text) == hash) {
      files.emplace(name, std::move(*text));
      continue;
    }
    const auto told = damaged(
        folder / name, 0,
        text ? "this file is not as it was recorded" : fmt::format("this file can't be read: {}", text.error()));
    errors.insert(errors.end(), told.value().begin(), told.value().end());
  }
  if (!errors.empty()) return tl::unexpected(std::move(errors));
  return files;
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
    std::uint64_t bytes = 0;
    const bool good = line != std::string::npos && head.starts_with("file\t") && tab > 4 &&
                      std::from_chars(head.data() + tab + 1, head.data() + head.size(), bytes).ec == std::errc() &&
                      bytes < text.size() - line - 1;  // and a line end
    if (!good) {
      const auto number = static_cast<std::uint32_t>(
          std::count(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(at), '\n') + 1);
      return damaged(path, number, "a line of a file's name and bytes was expected");
    }
    texts.push_back({head.substr(5, tab - 5), text.substr(line + 1, bytes)});
    at = line + 1 + bytes + 1;
  }
  return texts;
}

std::map<std::string, std::int64_t> read_times(const std::string& text) {
  std::map<std::string, std::int64_t> times;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);) {
    std::int64_t nanoseconds = 0;
    const std::size_t tab = line.rfind('\t');
    if (tab != std::string::npos &&
        std::from_chars(line.data() + tab + 1, line.data() + line.size(), nanoseconds).ec == std::errc())
      times[query_name(line.substr(0, tab))] = nanoseconds;
  }
  return times;
}

}  // namespace

std::string describe_data(const Dataset& dataset) {
  std::string text;
  for (const source::SourceFile& file : store::loaded_store_of(dataset).sources) {
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
  return seal_at(path).starts_with(seal_line);
}

Result<Folder> read_folder(const fs::path& path) {
  const base::Descriptor held = base::hold_folder(path);
  Folder folder;
  folder.seal = seal_at(path);
  auto files = read_sealed(path, folder.seal);
  if (!files) return tl::unexpected(files.error());
  Diagnostics errors;
  const auto take = [&](const Diagnostics& found) { errors.insert(errors.end(), found.begin(), found.end()); };
  for (auto& [name, text] : *files) {
    if (name == data_file) folder.data = std::move(text);
    if (name == machine_file) folder.machine = std::move(text);
    if (name == times_file) folder.times = read_times(text);
    if (const auto query = name_in(name, expected_ending)) folder.expected.emplace(*query, std::move(text));
    if (name.ends_with(result_ending)) {
      auto read = read_result((path / name).string(), text);
      if (!read) {
        take(read.error());
      } else {
        std::string query = read->query;
        folder.results.emplace(std::move(query), std::move(*read));
      }
    }
    if (const auto model = name_in(name, model_ending); model && name.starts_with(models_folder)) {
      auto read = read_model(path / name, text);
      if (!read) {
        take(read.error());
      } else {
        folder.models.emplace(model->substr(models_folder.size()), std::move(*read));
      }
    }
  }
  if (!errors.empty()) return tl::unexpected(std::move(errors));
  return folder;
}

Result<void> write_folder(const fs::path& path, const Folder& folder, Overwrite overwrite) {
  std::error_code error;
  if (overwrite == Overwrite::own_kind && fs::exists(path, error) && !is_baseline(path) &&
      (!fs::is_directory(path, error) || !fs::is_empty(path, error))) {
    return tl::unexpected(base::error("JR-902", fmt::format("{} holds something other than a baseline", path.string()),
                                      "name a new folder with --dir, or ask for it with --force: what is there stays"));
  }
  base::FolderFiles files;
  files.first = seal_file;
  std::map<std::string, std::string> texts;
  texts.emplace(data_file, folder.data);
  texts.emplace(machine_file, folder.machine);
  std::string times;
  for (const auto& [query, nanoseconds] : folder.times) times += fmt::format("{}\t{}\n", file_name(query), nanoseconds);
  texts.emplace(times_file, times);
  for (const auto& [query, recorded] : folder.results)
    texts.emplace(file_name(query) + std::string(result_ending), write_result(recorded));
  for (const auto& [query, text] : folder.expected)
    texts.emplace(file_name(query) + std::string(expected_ending), text);
  for (const auto& [hash, model] : folder.models)
    texts.emplace(std::string(models_folder) + hash + std::string(model_ending), write_model(model));
  files.texts = texts;
  files.texts.emplace(seal_file, write_seal(texts));
  const auto is_as_read = [&](const fs::path& now) { return seal_at(now) == folder.seal; };
  return base::replace_folder(path, files, own_files, is_as_read, "JR-901");
}

}  // namespace juniper::regress

namespace juniper {

Result<std::vector<RecordedTimes>> recorded_times(const std::string& folder, std::size_t most) {
  const std::string file = (std::filesystem::path(folder) / regress::times_file).string();
  const auto revisions = base::texts_of(file, most);
  if (!revisions)
    return tl::unexpected(base::error("JR-908", fmt::format("git does not tell the history of {}", file),
                                      "keep the baseline in a git repository"));
  std::vector<RecordedTimes> recorded;
  for (const base::RevisionText& each : *revisions)
    recorded.push_back({each.revision, each.day, regress::read_times(each.text)});
  return recorded;
}

}  // namespace juniper
