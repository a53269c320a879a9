// The folder of a baseline, replaced as a whole. What else stands in it is not read, and stays.
//
//   seal.txt              "juniper seal 1", and for each other file of the baseline HASH<TAB>FILE: it is whole, and as
//                         it was recorded
//   data.txt              what it was taken on: one line for each source file, TABLE<TAB>FILE<TAB>BYTES<TAB>HASH
//   QUERY.result          one file for each query; see result_file.h. Characters of the name other than letters,
//   digits,
//                         '_' and '-' are written %XX.
//   QUERY.expected.csv    numbers that somebody else gave for it, as they came
//   machine.txt           where times were taken, and with what: processor, cores, threads, parameters
//   times.txt             QUERY<TAB>NANOSECONDS, with names as those of files, apart from the results, so that these differ only where results do
//   models/HASH.model     the texts of a model that results came from, each led by a line file<TAB>NAME<TAB>BYTES;
//   names
//                         are relative to the folder of the first
#pragma once

#include <filesystem>
#include <map>
#include <string>
#include <vector>

#include "juniper/dataset.h"
#include "regress/result_file.h"

namespace juniper::regress {

struct Folder {
  std::string seal;  // as it was read; "" for a baseline that is new
  std::string data;
  std::string machine;
  std::map<std::string, RecordedResult> results;         // by query
  std::map<std::string, std::string> expected;           // CSV texts, by query
  std::map<std::string, std::int64_t> times;             // by query
  std::map<std::string, std::vector<ModelText>> models;  // by fingerprint
};

// The sources of a dataset, as data.txt holds them.
std::string describe_data(const Dataset& dataset);

// The processor and the settings of a dataset, as machine.txt holds them.
std::string describe_machine(const Dataset& dataset);

// A model's texts with names relative to the folder of the first, and their fingerprint.
std::vector<ModelText> relative_texts(const Model& model);
std::string fingerprint(const std::vector<ModelText>& texts);

// True if a baseline stands there.
bool is_baseline(const std::filesystem::path& path);

// Errors: JR-904 with file and line.
Result<Folder> read_folder(const std::filesystem::path& path);

// Puts a baseline in the place of the one that was read. Errors: JR-901 (cannot write), JR-902 (the folder holds something
// else), JR-910 (it has changed since it was read).
Result<void> write_folder(const std::filesystem::path& path, const Folder& folder,
                          Overwrite overwrite = Overwrite::own_kind);

}  // namespace juniper::regress
