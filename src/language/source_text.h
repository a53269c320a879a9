// The texts that a model is written in, and places in them.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "juniper/diagnostics.h"

namespace juniper::language {

// Bytes [begin, end) of the text number `file` of a Sources. Every node of the trees carries one, so that messages
// can point at it and a refactoring can edit just these characters.
struct Span {
  std::uint32_t file = 0;
  std::uint32_t begin = 0;
  std::uint32_t end = 0;

  bool operator==(const Span&) const = default;
};

struct SourceText {
  std::string name;  // as shown in messages: a path, or "<query>"
  std::string text;
};

// The texts that spans refer to, by number. Append-only, so that a span stays valid in every copy made later.
class Sources {
 public:
  std::uint32_t add(SourceText text);
  const SourceText& operator[](std::uint32_t file) const { return texts_[file]; }
  std::uint32_t size() const { return static_cast<std::uint32_t>(texts_.size()); }

  std::string_view text(Span span) const;
  Place place(Span span) const;
  // A diagnostic that shows the first line of `span` with a caret under it.
  Diagnostic diagnostic(Severity severity, std::string code, Span span, std::string message,
                        std::string suggestion = "") const;

 private:
  std::vector<SourceText> texts_;
  std::vector<std::vector<std::uint32_t>> lines_;  // where those of each text begin
};

}  // namespace juniper::language
