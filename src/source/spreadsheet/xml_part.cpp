#include "source/spreadsheet/xml_part.h"

#include <expat.h>
#include <fmt/format.h>
#include <zip.h>

#include <exception>
#include <fstream>

#include "base/diagnostics.h"
#include "base/failure.h"

namespace juniper::source {

namespace {

// Between a namespace and a name.
constexpr char separator = '\x01';

std::string_view without_namespace(std::string_view name) {
  const std::size_t at = name.rfind(separator);
  return at == std::string_view::npos ? name : name.substr(at + 1);
}

}  // namespace

void Archive::Close::operator()(zip* archive) const {
  zip_discard(archive);
}

Archive::Archive(const std::filesystem::path& path) : name_(path.string()) {
  if (!std::ifstream(path, std::ios::binary))
    throw base::Failure(base::error_at("JR-501", Place{name_, 0, 0}, "cannot open this file"));
  int error = 0;
  archive_.reset(zip_open(name_.c_str(), ZIP_RDONLY, &error));
  if (archive_ == nullptr) {
    throw base::Failure(base::error_at("JR-520", Place{name_, 0, 0}, "this is no spreadsheet: it is no ZIP archive",
                                       "save it as .xlsx or .ods; older forms (.xls) are not read"));
  }
}

bool Archive::has(const std::string& part) const {
  return zip_name_locate(archive_.get(), part.c_str(), 0) >= 0;
}

void Archive::fail(const std::string& part, const std::string& what) const {
  throw base::Failure(base::error_at("JR-520", Place{name_, 0, 0}, fmt::format("its part {} {}", part, what),
                                     "save the spreadsheet again"));
}

std::optional<std::string_view> Attributes::find(std::string_view name) const {
  for (const char** pair = pairs_; *pair != nullptr; pair += 2) {
    if (without_namespace(pair[0]) == name) return pair[1];
  }
  return std::nullopt;
}

void XmlPart::CloseFile::operator()(zip_file* file) const {
  zip_fclose(file);
}

void XmlPart::FreeParser::operator()(XML_ParserStruct* parser) const {
  XML_ParserFree(parser);
}

template <class Call>
void XmlPart::safely(const Call& call) {
  if (thrown_) return;
  try {
    call();
  } catch (...) {
    thrown_ = std::current_exception();
    XML_StopParser(parser_.get(), XML_FALSE);
  }
}

XmlPart::XmlPart(const Archive& archive, std::string part, XmlEvents& events)
    : archive_(archive), part_(std::move(part)), events_(events) {
  file_.reset(zip_fopen(archive.archive_.get(), part_.c_str(), 0));
  if (file_ == nullptr) archive_.fail(part_, "is not there, or is encrypted");
  parser_.reset(XML_ParserCreateNS(nullptr, separator));
  if (parser_ == nullptr) throw std::bad_alloc();
  XML_SetUserData(parser_.get(), this);
  XML_SetElementHandler(
      parser_.get(),
      [](void* self, const XML_Char* name, const XML_Char** attributes) {
        auto& it = *static_cast<XmlPart*>(self);
        it.safely([&] { it.events_.begin(without_namespace(name), Attributes(attributes)); });
      },
      [](void* self, const XML_Char* name) {
        auto& it = *static_cast<XmlPart*>(self);
        it.safely([&] { it.events_.end(without_namespace(name)); });
      });
  XML_SetCharacterDataHandler(parser_.get(), [](void* self, const XML_Char* text, int size) {
    auto& it = *static_cast<XmlPart*>(self);
    it.safely([&] { it.events_.text({text, static_cast<std::size_t>(size)}); });
  });
  // Entities could stand for more than any memory holds.
  XML_SetStartDoctypeDeclHandler(parser_.get(), [](void* self, const XML_Char*, const XML_Char*, const XML_Char*, int) {
    auto& it = *static_cast<XmlPart*>(self);
    it.has_doctype_ = true;
    XML_StopParser(it.parser_.get(), XML_FALSE);
  });
}

bool XmlPart::read_some() {
  if (at_end_) return false;
  constexpr int bytes = 1 << 16;
  void* const buffer = XML_GetBuffer(parser_.get(), bytes);
  if (buffer == nullptr) throw std::bad_alloc();
  const zip_int64_t got = zip_fread(file_.get(), buffer, bytes);
  if (got < 0) archive_.fail(part_, "is damaged: it can't be decompressed");
  at_end_ = got == 0;
  const XML_Status status = XML_ParseBuffer(parser_.get(), static_cast<int>(got), at_end_ ? XML_TRUE : XML_FALSE);
  if (thrown_) std::rethrow_exception(thrown_);
  if (has_doctype_) archive_.fail(part_, "has a document type, which is not read");
  if (status != XML_STATUS_OK) {
    if (XML_GetErrorCode(parser_.get()) == XML_ERROR_NO_MEMORY) throw std::bad_alloc();
    archive_.fail(part_, fmt::format("is no XML from its line {} on ({})", XML_GetCurrentLineNumber(parser_.get()),
                                     XML_ErrorString(XML_GetErrorCode(parser_.get()))));
  }
  return !at_end_;
}

}  // namespace juniper::source
