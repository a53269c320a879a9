#include "base/json.h"

#include <fmt/format.h>

#include <algorithm>
#include <limits>
#include <nlohmann/json.hpp>

namespace juniper::base {

struct JsonAccess {
  static const auto& data(const Json& json) { return json.data_; }
};

namespace {

using Written = nlohmann::ordered_json;

constexpr std::size_t most_levels = 200;

// Takes the events of the library's parser and builds the value.
class Builder : public nlohmann::json_sax<nlohmann::json> {
 public:
  bool null() override { return put({}); }
  bool boolean(bool truth) override { return put(truth); }
  bool number_integer(number_integer_t number) override { return put(std::int64_t{number}); }
  bool number_unsigned(number_unsigned_t number) override { return put(std::uint64_t{number}); }
  bool number_float(number_float_t number, const string_t&) override { return put(number); }
  bool string(string_t& text) override { return put(std::move(text)); }
  bool binary(binary_t&) override { return false; }
  bool start_object(std::size_t) override { return open(Json::Members()); }
  bool start_array(std::size_t) override { return open(Json::Items()); }
  bool end_object() override { return close(); }
  bool end_array() override { return close(); }
  bool key(string_t& name) override {
    open_.back().name = std::move(name);
    return true;
  }
  bool parse_error(std::size_t byte, const std::string&, const nlohmann::detail::exception&) override {
    parsed_.byte = byte;
    parsed_.problem = "this is not JSON";
    return false;
  }

  ParsedJson take() { return std::move(parsed_); }

 private:
  // An array or object that has not ended.
  struct Open {
    Json::Items items;
    Json::Members members;
    bool is_object = false;
    std::string name;  // of the member that comes
  };

  bool open(const Json& empty) {
    if (open_.size() == most_levels) {
      parsed_.problem = fmt::format("arrays and objects stand in each other more than {} deep", most_levels);
      return false;
    }
    open_.push_back({{}, {}, empty.members() != nullptr, ""});
    return true;
  }
  bool close() {
    Open ended = std::move(open_.back());
    open_.pop_back();
    return ended.is_object ? put(std::move(ended.members)) : put(std::move(ended.items));
  }
  bool put(Json value) {
    if (open_.empty()) {
      parsed_.value = std::move(value);
    } else if (open_.back().is_object) {
      open_.back().members.emplace_back(std::move(open_.back().name), std::move(value));
    } else {
      open_.back().items.push_back(std::move(value));
    }
    return true;
  }

  std::vector<Open> open_;
  ParsedJson parsed_;
};

// Hands the events of the library's parser on.
class Passing : public nlohmann::json_sax<nlohmann::json> {
 public:
  explicit Passing(JsonEvents& events) : events_(events) {}
  bool null() override { return events_.null(); }
  bool boolean(bool truth) override { return events_.boolean(truth); }
  bool number_integer(number_integer_t number) override { return events_.whole(number); }
  bool number_unsigned(number_unsigned_t number) override {
    constexpr auto most = static_cast<number_unsigned_t>(std::numeric_limits<std::int64_t>::max());
    return number <= most ? events_.whole(static_cast<std::int64_t>(number)) : events_.number(std::to_string(number));
  }
  bool number_float(number_float_t, const string_t& written) override { return events_.number(written); }
  bool string(string_t& text) override { return events_.text(text); }
  bool binary(binary_t&) override { return false; }
  bool start_object(std::size_t) override { return events_.begin_object(); }
  bool key(string_t& name) override { return events_.key(name); }
  bool end_object() override { return events_.end_object(); }
  bool start_array(std::size_t) override { return events_.begin_array(); }
  bool end_array() override { return events_.end_array(); }
  bool parse_error(std::size_t byte, const std::string&, const nlohmann::detail::exception&) override {
    byte_ = std::max<std::size_t>(byte, 1);
    return false;
  }
  std::size_t byte() const { return byte_; }

 private:
  JsonEvents& events_;
  std::size_t byte_ = 0;
};

// Writes a value in lines. (The library's own values of several parts take memory to be destroyed, and end the program
// where there is none.)
class Writer {
 public:
  enum class Lines : std::uint8_t { one, several };
  explicit Writer(Lines lines) : lines_(lines) {}

  std::string written(const Json& json) {
    std::visit(*this, JsonAccess::data(json));
    return std::move(out_);
  }

  void operator()(std::monostate) { out_ += "null"; }
  void operator()(const std::string& text) { out_ += json_text(text); }
  void operator()(const Json::Items& items) {
    list(items, "[]", [this](const Json& item) { std::visit(*this, JsonAccess::data(item)); });
  }
  void operator()(const Json::Members& members) {
    list(members, "{}", [this](const auto& member) {
      out_ += json_text(member.first) + (lines_ == Lines::several ? ": " : ":");
      std::visit(*this, JsonAccess::data(member.second));
    });
  }
  template <class Scalar>
  void operator()(const Scalar& scalar) {
    out_ += Written(scalar).dump();
  }

 private:
  template <class List, class Write>
  void list(const List& parts, const char* brackets, const Write& write) {
    out_ += brackets[0];
    ++level_;
    for (const auto& part : parts) {
      if (&part != &parts.front()) out_ += ',';
      break_line();
      write(part);
    }
    --level_;
    if (!parts.empty()) break_line();
    out_ += brackets[1];
  }
  void break_line() {
    if (lines_ == Lines::several) out_ += '\n' + std::string(2 * level_, ' ');
  }

  Lines lines_;
  std::string out_;
  std::size_t level_ = 0;
};

}  // namespace

std::optional<std::uint64_t> Json::whole_number() const {
  const auto* const number = std::get_if<std::uint64_t>(&data_);
  return number != nullptr ? std::optional(*number) : std::nullopt;
}

const Json* Json::find(std::string_view name) const {
  const Json* last = nullptr;
  if (const Members* all = members()) {
    for (const auto& [member, value] : *all) {
      if (member == name) last = &value;
    }
  }
  return last;
}

const std::string* Json::find_text(std::string_view name) const {
  const Json* const member = find(name);
  return member != nullptr ? member->text() : nullptr;
}

std::string Json::to_text() const {
  return Writer(Writer::Lines::several).written(*this);
}

std::string Json::to_line() const {
  return Writer(Writer::Lines::one).written(*this);
}

ParsedJson parse_json(std::string_view text) {
  Builder builder;
  const bool whole = nlohmann::json::sax_parse(text, &builder);
  ParsedJson parsed = builder.take();
  if (!whole) parsed.value.reset();
  return parsed;
}

std::size_t read_json(std::string_view text, JsonEvents& events) {
  Passing passing(events);
  nlohmann::json::sax_parse(text, &passing);
  return passing.byte();
}

std::string json_text(const std::string& text) {
  return Written(text).dump(-1, ' ', false, Written::error_handler_t::replace);
}

}  // namespace juniper::base
