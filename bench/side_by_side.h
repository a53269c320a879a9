// Saved queries of a dataset beside the same questions in the peer's SQL.
//
// The two take turns, query by query; before a time counts, the answers are compared. In a turn each is asked twice, and the
// second answer counts: a processor that has waited for the other's takes two to three times as long at first, which a
// short answer feels more than a long one. The first is told beside it. Times are those of the whole call, with the rows
// handed over; neither keeps results. The bandwidth of reading memory is measured in the same turns.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <string>
#include <vector>

#include "juniper/dataset.h"
#include "peer.h"

namespace bench {

struct SideBySide {
  std::string over;  // what the dataset holds, with its size
  unsigned threads = 2;
  int repeats = 5;
  std::vector<std::string> chosen;  // queries; none: all
  // What some queries are computed by as well: a sum or a count that tells whether the work was done right.
  std::map<std::string, std::function<std::int64_t()>> by_hand;
  std::string figures;  // the JSON file to be written; empty: none
};

// The statements behind "-- name" lines of a file.
std::map<std::string, std::string> read_statements(const std::string& path);

// A table of the peer: the CSV files that hold it, without their ending, and its columns with their types.
struct PeerTable {
  std::string name;
  std::string files;
  std::string columns;
};
// Puts tables into the peer's memory, from the files of `folder`/data; they are parsed once and kept in the file `kept`
// of the folder.
void fill(Peer& peer, const std::string& folder, const std::string& kept, const std::vector<PeerTable>& tables);

// Asks both, compares and prints. Ends the program where an answer differs.
void run_side_by_side(const juniper::Dataset& dataset, Peer& peer, const std::map<std::string, std::string>& statements,
                      const SideBySide& settings);

}  // namespace bench
