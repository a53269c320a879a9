// The parts of a spreadsheet: XML files in a ZIP archive, read as a stream, whatever size they claim.
#pragma once

#include <filesystem>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "juniper/diagnostics.h"

struct zip;
struct zip_file;
struct XML_ParserStruct;

namespace juniper::source {

// A ZIP archive, open for reading. Errors (thrown): JR-501, JR-520 (no such archive, or damaged).
class Archive {
 public:
  explicit Archive(const std::filesystem::path& path);
  bool has(const std::string& part) const;
  const std::string& name() const { return name_; }
  [[noreturn]] void fail(const std::string& part, const std::string& what) const;

 private:
  friend class XmlPart;
  struct Close {
    void operator()(zip* archive) const;
  };
  std::string name_;
  std::unique_ptr<zip, Close> archive_;
};

// The attributes of an element, by their names without prefixes.
class Attributes {
 public:
  explicit Attributes(const char** pairs) : pairs_(pairs) {}
  std::optional<std::string_view> find(std::string_view name) const;
  std::string text(std::string_view name) const { return std::string(find(name).value_or("")); }

 private:
  const char** pairs_;
};

// What takes the elements of a part. Names are without prefixes.
class XmlEvents {
 public:
  virtual ~XmlEvents() = default;
  virtual void begin(std::string_view element, const Attributes& attributes) = 0;
  virtual void end(std::string_view element) = 0;
  virtual void text(std::string_view text) = 0;
};

// One part of an archive, read on as far as it is asked for.
class XmlPart {
 public:
  // Errors (thrown): JR-520, if it is not there, is damaged, is no XML, or has a document type, which no spreadsheet has.
  XmlPart(const Archive& archive, std::string part, XmlEvents& events);
  // Reads some more; false at the end.
  bool read_some();
  void read_all() {
    while (read_some()) continue;
  }

 private:
  struct CloseFile {
    void operator()(zip_file* file) const;
  };
  struct FreeParser {
    void operator()(XML_ParserStruct* parser) const;
  };
  template <class Call>
  void safely(const Call& call);

  const Archive& archive_;
  std::string part_;
  XmlEvents& events_;
  std::unique_ptr<zip_file, CloseFile> file_;
  std::unique_ptr<XML_ParserStruct, FreeParser> parser_;
  std::exception_ptr thrown_;  // by a call of the events: no exception passes through the parser
  bool has_doctype_ = false;
  bool at_end_ = false;
};

}  // namespace juniper::source
