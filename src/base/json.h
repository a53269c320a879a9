// JSON (RFC 8259) behind a narrow face: files that read or write some need not compile the library that does it.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <variant>
#include <vector>

namespace juniper::base {

// A value: null, a boolean, a number, a text, an array or an object. Members keep the order in which they were written.
class Json {
 public:
  using Items = std::vector<Json>;
  using Members = std::vector<std::pair<std::string, Json>>;

  Json() = default;
  Json(Json&&) noexcept = default;
  Json& operator=(Json&&) noexcept = default;
  // Never copied: the copy constructor of such a variant in libstdc++ 12 reads an index that it has not set where memory
  // runs out.
  Json(const Json&) = delete;
  Json& operator=(const Json&) = delete;
  Json(bool truth) : data_(truth) {}
  Json(std::int64_t number) : data_(number) {}
  Json(std::uint64_t number) : data_(number) {}
  Json(std::uint32_t number) : data_(std::uint64_t{number}) {}
  Json(double number) : data_(number) {}
  Json(std::string text) : data_(std::move(text)) {}
  Json(const char* text) : data_(std::string(text)) {}
  Json(Items items) : data_(std::move(items)) {}
  Json(Members members) : data_(std::move(members)) {}

  bool is_null() const { return std::holds_alternative<std::monostate>(data_); }
  // What it holds; nothing if it is of another kind. A whole number is one that is written without a point or sign.
  std::optional<std::uint64_t> whole_number() const;
  const std::string* text() const { return std::get_if<std::string>(&data_); }
  const Items* items() const { return std::get_if<Items>(&data_); }
  const Members* members() const { return std::get_if<Members>(&data_); }
  // The last member of that name; nothing if there is none, or this is no object.
  const Json* find(std::string_view name) const;
  // The text of that member; nothing if there is none, or it is no text.
  const std::string* find_text(std::string_view name) const;

  // The text of this value, in lines with two blanks for each level. Bytes that are no UTF-8 become U+FFFD.
  std::string to_text() const;
  // The same on one line, without blanks.
  std::string to_line() const;

 private:
  friend struct JsonAccess;
  std::variant<std::monostate, bool, std::int64_t, std::uint64_t, double, std::string, Items, Members> data_;
};

// What reading a text gave: the value, or what is wrong and at which byte, counted from 1.
struct ParsedJson {
  std::optional<Json> value;
  std::size_t byte = 0;
  std::string problem;
};

// Reads a text that is one JSON value. Arrays and objects may stand in each other up to 200 deep.
ParsedJson parse_json(std::string_view text);

// What takes the parts of a value one by one, in the order of the text; for what is too large to be held. A call that
// gives false ends the reading.
class JsonEvents {
 public:
  virtual ~JsonEvents() = default;
  virtual bool null() = 0;
  virtual bool boolean(bool truth) = 0;
  virtual bool whole(std::int64_t number) = 0;
  // Any other number, as it is written.
  virtual bool number(std::string_view written) = 0;
  virtual bool text(std::string_view text) = 0;
  virtual bool begin_object() = 0;
  virtual bool key(std::string_view name) = 0;
  virtual bool end_object() = 0;
  virtual bool begin_array() = 0;
  virtual bool end_array() = 0;
};

// Reads a text that is one JSON value. Gives 0, or the byte, counted from 1, at which it is none; 0 also where a call gave
// false. UTF-8 is checked.
std::size_t read_json(std::string_view text, JsonEvents& events);

// A text as JSON writes it, in quotes. Bytes that are no UTF-8 become U+FFFD.
std::string json_text(const std::string& text);

}  // namespace juniper::base
