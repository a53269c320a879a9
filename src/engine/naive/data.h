// What the naive evaluator reads: values and links in plain vectors, of a store or of whatever else holds them.
#pragma once

#include <map>
#include <optional>
#include <vector>

#include "engine/asked/source.h"

namespace juniper::engine::naive {

// Each row of the many side's row of the one side; nothing where it leads to none.
using LinkedRows = std::vector<std::optional<std::uint64_t>>;

class Data {
 public:
  Data() = default;
  virtual ~Data() = default;
  Data(const Data&) = delete;
  Data& operator=(const Data&) = delete;

  // What is given lives as long as this. Each throws a base::Failure with JR-706 for what is broken.
  virtual std::uint64_t rows(language::TableIndex table) = 0;
  virtual const std::vector<Value>& column(language::ColumnId id) = 0;
  virtual const LinkedRows& link(language::LinkIndex index) = 0;
  // The column that settles what is tied; nothing: the order of the rows does.
  virtual std::optional<std::uint32_t> settling_column(language::TableIndex table) = 0;
  // Throws if the question was called off.
  virtual void check() = 0;
};

// The store's, each decoded once.
class StoreData final : public Data {
 public:
  explicit StoreData(const Source& source) : source_(source) {}

  std::uint64_t rows(language::TableIndex table) override { return source_.rows(table); }
  const std::vector<Value>& column(language::ColumnId id) override;
  const LinkedRows& link(language::LinkIndex index) override;
  std::optional<std::uint32_t> settling_column(language::TableIndex table) override {
    return source_.settling_column(table);
  }
  void check() override { source_.check(); }

 private:
  const Source& source_;
  std::map<language::ColumnId, std::vector<Value>> columns_;
  std::map<language::LinkIndex, LinkedRows> links_;
};

}  // namespace juniper::engine::naive
