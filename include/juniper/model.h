// A model: the checked meaning of a model text.
#pragma once

#include <map>
#include <memory>
#include <string>
#include <vector>

#include "juniper/diagnostics.h"
#include "juniper/value.h"

namespace juniper {

namespace language {
struct CheckedModel;
}

// What a model text is read with.
struct ReadOptions {
  // Values of parameters in their exact text form ("0.5", "2025-03-01"), by name; those of the text by default.
  std::map<std::string, std::string> settings;
  bool strict = false;  // warnings are errors
};

// One file of a model text.
struct ModelText {
  std::string name;  // its path, as shown in messages
  std::string text;

  bool operator==(const ModelText&) const = default;
};

// Immutable and cheap to copy; copies share one checked tree. May be read from any thread.
class Model {
 public:
  // Reads and checks a .ridge file and those that it includes. Errors: JR-1xx to JR-4xx, each with its place; JR-001
  // (cannot read a file).
  static Result<Model> read(const std::string& path, const ReadOptions& options = {});
  // Checks a text; `name` stands for it in messages, and the paths of its sources and includes are relative to name's
  // folder.
  static Result<Model> parse(std::string name, std::string text, const ReadOptions& options = {});
  // Checks a text with its includes, which are found among the texts behind the first and not on the disk.
  static Result<Model> parse(const std::vector<ModelText>& texts, const ReadOptions& options = {});

  const std::string& path() const;       // as given to `read` or `parse`
  const std::string& text() const;       // of the first file
  std::vector<ModelText> texts() const;  // of all files, the first one first
  const std::string& title() const;      // of `model "…"`, or ""
  const ReadOptions& options() const { return *options_; }
  // What is no error, and worth a look.
  const Diagnostics& warnings() const { return *warnings_; }

  std::vector<std::string> tables() const;
  std::vector<std::string> measures() const;
  std::vector<std::string> queries() const;

  // The checked tree, for the library's own parts.
  const language::CheckedModel& checked() const { return *checked_; }

 private:
  Model(std::shared_ptr<const language::CheckedModel> checked, std::shared_ptr<const Diagnostics> warnings,
        std::shared_ptr<const ReadOptions> options)
      : checked_(std::move(checked)), warnings_(std::move(warnings)), options_(std::move(options)) {}
  template <class Find>
  static Result<Model> build(ModelText first, const Find& find, const ReadOptions& options);

  std::shared_ptr<const language::CheckedModel> checked_;
  std::shared_ptr<const Diagnostics> warnings_;
  std::shared_ptr<const ReadOptions> options_;
};

}  // namespace juniper
