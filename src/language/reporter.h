// Problems of a text, told at their places.
#pragma once

#include <string>
#include <utility>

#include "language/source_text.h"

namespace juniper::language {

class Reporter {
 public:
  Reporter(const Sources& sources, Diagnostics& diagnostics) : sources_(sources), diagnostics_(diagnostics) {}
  void error(Span span, std::string code, std::string message, std::string suggestion = "") const {
    diagnostics_.push_back(
        sources_.diagnostic(Severity::error, std::move(code), span, std::move(message), std::move(suggestion)));
  }
  void warning(Span span, std::string code, std::string message, std::string suggestion) const {
    diagnostics_.push_back(
        sources_.diagnostic(Severity::warning, std::move(code), span, std::move(message), std::move(suggestion)));
  }

 private:
  const Sources& sources_;
  Diagnostics& diagnostics_;
};

}  // namespace juniper::language
