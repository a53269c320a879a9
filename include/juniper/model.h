// A model: the checked meaning of a model text.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "juniper/diagnostics.h"
#include "juniper/value.h"

namespace juniper {

namespace language {
struct CheckedModel;
}

// Immutable and cheap to copy; copies share one checked tree. May be read from any thread.
class Model {
 public:
  // Reads and checks a .ridge file. Errors: JR-1xx to JR-4xx, each with its place; JR-001 (cannot read the file).
  static Result<Model> read(const std::string& path);
  // Checks a text; `name` stands for it in messages, and the paths of its sources are relative to name's folder.
  static Result<Model> parse(std::string name, std::string text);

  const std::string& path() const;  // as given to `read` or `parse`
  const std::string& text() const;
  const std::string& title() const;  // of `model "…"`, or ""

  std::vector<std::string> tables() const;
  std::vector<std::string> measures() const;
  std::vector<std::string> queries() const;

  // The checked tree, for the library's own parts.
  const language::CheckedModel& checked() const { return *checked_; }

 private:
  explicit Model(std::shared_ptr<const language::CheckedModel> checked) : checked_(std::move(checked)) {}
  std::shared_ptr<const language::CheckedModel> checked_;
};

}  // namespace juniper
