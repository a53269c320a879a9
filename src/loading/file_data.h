// A model's data as its files have it, for the naive evaluator: read, linked and computed without a store, without the
// readers, encodings and programs that make one. What goes wrong on the way into a store is seen by holding its answers
// against those from here.
#pragma once

#include <functional>
#include <map>
#include <set>

#include "engine/naive/data.h"
#include "language/traverse.h"

namespace juniper::loading {

// Reads what it is asked for, and keeps it. A table's rows stand in the order of the files: `sorted by` changes nothing
// that an answer may tell. Throws a base::Failure: JR-501 to JR-507 for files, JR-704 where a calculated value does not
// fit, JR-706 for a link whose one side holds a key twice.
class FileData final : public engine::naive::Data {
 public:
  FileData(const language::CheckedModel& model, engine::Setting setting, std::function<void()> check)
      : model_(model), setting_(setting), check_(std::move(check)), tables_(model.tables.size()) {}

  std::uint64_t rows(language::TableIndex table) override;
  const std::vector<Value>& column(language::ColumnId id) override;
  const engine::naive::LinkedRows& link(language::LinkIndex index) override;
  std::optional<std::uint32_t> settling_column(language::TableIndex table) override;
  void check() override { check_(); }

 private:
  struct ReadTable {
    bool is_read = false;
    std::uint64_t rows = 0;
    std::map<std::uint32_t, std::vector<Value>> columns;
  };
  const ReadTable& read(language::TableIndex table);
  void read_files(language::TableIndex table);
  void leave_out_unreached(language::TableIndex table);
  void compute_table(language::TableIndex table);
  engine::naive::LinkedRows resolved(const language::Link& link, bool& repeats);

  const language::CheckedModel& model_;
  engine::Setting setting_;
  std::function<void()> check_;
  std::vector<ReadTable> tables_;
  std::map<language::LinkIndex, engine::naive::LinkedRows> links_;
};

}  // namespace juniper::loading
