// Two weighings, line by line.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <filesystem>
#include <map>

#include "base/failure.h"
#include "base/files.h"
#include "base/git.h"
#include "base/json.h"
#include "juniper/weigh.h"
#include "source/csv/records.h"

namespace juniper {

namespace {

using Key = std::pair<std::string, std::string>;  // table and name
using Parts = std::map<Key, PartWeight>;

Parts parts_of(const Weighing& weighing) {
  Parts parts;
  for (const ColumnWeight& c : weighing.columns)
    parts[{c.table, c.column}] = {c.rows, c.distinct, c.dictionary_bytes, c.code_bytes};
  for (const LinkWeight& l : weighing.links) parts[{l.table, l.link}] = {l.rows, 0, 0, l.bytes};
  parts[{"", "header, directory, model text"}] = {0, 0, 0, weighing.overhead_bytes};
  return parts;
}

// Thrown at what is no weighing, with the reason.
struct NoWeighing {
  std::string why;
};

// What no machine holds would not add up in 64 bits.
std::uint64_t sensible(std::uint64_t value) {
  constexpr std::uint64_t most = std::uint64_t{1} << 50;
  if (value > most) throw NoWeighing{fmt::format("{} is more than any number of bytes or rows", value)};
  return value;
}

std::uint64_t number(std::string_view text) {
  std::uint64_t value = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (!text.empty() && (error != std::errc() || end != text.data() + text.size()))
    throw NoWeighing{fmt::format("'{}' is no number of bytes or rows", text)};
  return sensible(value);
}

Parts parts_of_json(const std::string& text) {
  const base::ParsedJson weighing = base::parse_json(text);
  if (!weighing.value) throw NoWeighing{fmt::format("byte {}: {}", weighing.byte, weighing.problem)};
  const base::Json* const list = weighing.value->find("parts");
  if (list == nullptr || list->items() == nullptr) throw NoWeighing{"it has no list \"parts\""};
  Parts parts;
  for (const base::Json& part : *list->items()) {
    const auto count = [&](const char* name) -> std::uint64_t {
      const base::Json* const member = part.find(name);
      if (member != nullptr && member->is_null()) return 0;
      const auto counted = member != nullptr ? member->whole_number() : std::nullopt;
      if (!counted) throw NoWeighing{fmt::format("a part has no number \"{}\"", name)};
      return sensible(*counted);
    };
    const std::string* const table = part.find_text("table");
    const std::string* const name = part.find_text("name");
    if (table == nullptr || name == nullptr) throw NoWeighing{"a part has no \"table\" or no \"name\""};
    parts[{*table, *name}] = {count("rows"), count("distinct"), count("dictionary_bytes"),
                              count("code_bytes") + count("other_bytes")};
  }
  return parts;
}

Parts parts_of_csv(std::string text) {
  if (text.size() > source::most_piece_bytes) throw NoWeighing{"it is larger than 1 GB"};
  // Where it has all parts of the report, one behind the other, these stand last.
  constexpr std::string_view begin = "\npart,parts\n";
  const std::size_t at = text.starts_with("part,") ? text.find(begin) : std::string::npos;
  if (at != std::string::npos) text.erase(0, at + begin.size());
  source::CsvRecords records;
  records.read(source::as_piece(text), ',', 0);
  if (records.end() || !records.bad_records().empty() || records.rows() == 0)
    throw NoWeighing{"it is no CSV of one width"};
  std::string scratch;
  std::map<std::string, std::size_t> position;
  for (std::size_t i = 0; i < records.width(); ++i) position.emplace(records.text(records.field(0, i), scratch), i);
  for (const char* name : {"table", "name", "rows", "distinct", "dictionary_bytes", "code_bytes", "other_bytes"}) {
    if (!position.contains(name)) throw NoWeighing{fmt::format("it has no column '{}'", name)};
  }
  Parts parts;
  for (std::size_t row = 1; row < records.rows(); ++row) {
    const auto cell = [&](const char* name) {
      return std::string(records.text(records.field(row, position.at(name)), scratch));
    };
    parts[{cell("table"), cell("name")}] = {number(cell("rows")), number(cell("distinct")),
                                            number(cell("dictionary_bytes")),
                                            number(cell("code_bytes")) + number(cell("other_bytes"))};
  }
  return parts;
}

tl::unexpected<Diagnostics> no_weighing(const std::string& name, const std::string& why) {
  return tl::unexpected(base::error("JR-006", fmt::format("{} is no weighing: {}", name, why),
                                    "name a .jrs store, or what `juniper weigh MODEL --format json` printed"));
}

// What a weighing was printed as; `name` stands for it in messages.
Result<Parts> parts_of_text(const std::string& name, std::string text) {
  try {
    if (text.empty()) throw NoWeighing{"it is empty"};
    if (text[0] == '{') return parts_of_json(text);
    return parts_of_csv(std::move(text));
  } catch (const NoWeighing& none) {
    return no_weighing(name, none.why);
  }
}

Result<Parts> read_parts(const std::string& path) {
  if (std::filesystem::path(path).extension() == ".jrs") {
    const auto dataset = Dataset::open(path);
    if (!dataset) return tl::unexpected(dataset.error());
    const auto weighing = weigh(*dataset);
    if (!weighing) return tl::unexpected(weighing.error());
    return parts_of(*weighing);
  }
  auto text = base::read_plain_file(path);
  if (!text) return no_weighing(path, text.error());
  return parts_of_text(path, std::move(*text));
}

std::uint64_t total(const Parts& parts) {
  std::uint64_t bytes = 0;
  for (const auto& [key, part] : parts) bytes += part.total_bytes();
  return bytes;
}

}  // namespace

Result<WeightChanges> weigh_against(const Weighing& weighing, const std::string& before_path) {
  return base::guarded([&]() -> Result<WeightChanges> {
    const auto before = read_parts(before_path);
    if (!before) return tl::unexpected(before.error());
    const Parts after = parts_of(weighing);
    WeightChanges changes;
    changes.before_bytes = total(*before);
    changes.after_bytes = total(after);
    Parts all = after;
    all.insert(before->begin(), before->end());
    for (const auto& [key, part] : all) {
      PartChange change{key.first, key.second, std::nullopt, std::nullopt};
      if (const auto then = before->find(key); then != before->end()) change.before = then->second;
      if (const auto now = after.find(key); now != after.end()) change.after = now->second;
      if (change.before == change.after) {
        ++changes.same_parts;
      } else {
        changes.parts.push_back(std::move(change));
      }
    }
    std::stable_sort(changes.parts.begin(), changes.parts.end(), [](const PartChange& a, const PartChange& b) {
      return std::abs(a.bytes()) > std::abs(b.bytes());
    });
    return changes;
  });
}

Result<std::vector<RecordedWeight>> recorded_weights(const std::string& path, std::size_t most) {
  return base::guarded([&]() -> Result<std::vector<RecordedWeight>> {
    auto revisions = base::texts_of(path, most);
    if (!revisions)
      return tl::unexpected(base::error("JR-908", fmt::format("git does not tell the history of {}", path),
                                        "name a file that a git repository holds"));
    std::vector<RecordedWeight> recorded;
    for (base::RevisionText& each : *revisions) {
      const auto parts = parts_of_text(fmt::format("{} at {}", path, each.revision), std::move(each.text));
      if (!parts) return tl::unexpected(parts.error());
      recorded.push_back({each.revision, each.day, total(*parts)});
    }
    return recorded;
  });
}

}  // namespace juniper
