// Kernels over texts, which are UTF-8 and count in code points.
#include <unicode/locid.h>
#include <unicode/unistr.h>
#include <utf8.h>

#include <algorithm>
#include <limits>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/passes.h"
#include "engine/vector/operations/kernels.h"
#include "engine/vector/operations/map.h"

namespace juniper::engine::kernels {

using language::Node;

namespace {

// SQL's like: % is any text, _ any one character, no escape. A pattern is what stands between its %s.
class LikePattern {
 public:
  explicit LikePattern(std::string_view pattern) : pattern_(pattern) {
    has_any_character_ = pattern.find('_') != std::string_view::npos;
    std::size_t begin = 0;
    for (std::size_t at = pattern.find('%'); at != std::string_view::npos; at = pattern.find('%', begin)) {
      parts_.push_back(pattern.substr(begin, at - begin));
      begin = at + 1;
    }
    parts_.push_back(pattern.substr(begin));
  }

  // What every text that matches holds, the longest there is of it; empty where that isn't known.
  std::string_view longest_part() const {
    if (has_any_character_) return {};
    return *std::max_element(parts_.begin(), parts_.end(), [](auto a, auto b) { return a.size() < b.size(); });
  }

  // Parts are whole characters, and UTF-8 begins none within another: bytes may be compared.
  bool matches(std::string_view text) const {
    if (has_any_character_) return matches_by_character(text);
    if (parts_.size() == 1) return text == pattern_;
    if (!text.starts_with(parts_.front())) return false;
    text.remove_prefix(parts_.front().size());
    if (!text.ends_with(parts_.back())) return false;
    text.remove_suffix(parts_.back().size());
    for (std::size_t i = 1; i + 1 < parts_.size(); ++i) {
      if (parts_[i].empty()) continue;
      const std::size_t at = base::find_text(text, parts_[i], 0);
      if (at == std::string_view::npos) return false;
      text.remove_prefix(at + parts_[i].size());
    }
    return true;
  }

 private:
  bool matches_by_character(std::string_view text) const {
    const std::string_view pattern = pattern_;
    std::size_t t = 0;
    std::size_t p = 0;
    std::size_t star = std::string_view::npos;
    std::size_t star_text = 0;
    const auto next = [](std::string_view s, std::size_t at) {
      ++at;
      while (at < s.size() && (static_cast<unsigned char>(s[at]) & 0xC0) == 0x80) ++at;
      return at;
    };
    while (t < text.size()) {
      if (p < pattern.size() && pattern[p] == '%') {
        star = p++;
        star_text = t;
      } else if (p < pattern.size() && pattern[p] == '_') {
        ++p;
        t = next(text, t);
      } else if (p < pattern.size() && pattern[p] == text[t]) {
        ++p;
        ++t;
      } else if (star != std::string_view::npos) {
        p = star + 1;
        star_text = next(text, star_text);
        t = star_text;
      } else {
        return false;
      }
    }
    while (p < pattern.size() && pattern[p] == '%') ++p;
    return p == pattern.size();
  }

  std::string_view pattern_;
  std::vector<std::string_view> parts_;
  bool has_any_character_ = false;
};

// The longest part of the pattern is looked for in many texts at once, where these stand one behind the other, as those
// of a dictionary's block do: texts without it don't match.
void match_together(const std::vector<std::string_view>& texts, const LikePattern& pattern, Vector& out) {
  std::fill(out.state.begin(), out.state.end(), State::value);
  std::fill(out.narrow.begin(), out.narrow.end(), 0);
  const auto end_of = [&](std::size_t i) { return texts[i].data() + texts[i].size(); };
  for (std::size_t first = 0, behind = 0; first < out.size(); first = behind) {
    behind = first + 1;
    while (behind < out.size() && end_of(behind - 1) == texts[behind].data()) ++behind;
    const char* const begin = texts[first].data();
    const std::string_view all(begin, static_cast<std::size_t>(end_of(behind - 1) - begin));
    std::size_t i = first;
    for (std::size_t at = base::find_text(all, pattern.longest_part(), 0); at != std::string_view::npos;
         at = base::find_text(all, pattern.longest_part(), at)) {
      while (end_of(i) <= begin + at) ++i;
      out.narrow[i] = pattern.matches(texts[i]) ? 1 : 0;
      at = static_cast<std::size_t>(end_of(i) - begin);
    }
  }
}

std::string replace_all(std::string_view text, std::string_view what, std::string_view with) {
  std::string result;
  while (!what.empty()) {
    const std::size_t at = text.find(what);
    if (at == std::string_view::npos) break;
    result.append(text.substr(0, at)).append(with);
    text.remove_prefix(at + what.size());
  }
  return result.append(text);
}

// The code points `from` (counted from 1) and on, `length` of them, as SQL's substring counts: positions before the
// text are counted but hold nothing.
std::string substring_of(std::string_view text, std::int64_t from, std::int64_t length) {
  std::int64_t end = 0;
  if (__builtin_add_overflow(from, std::max<std::int64_t>(length, 0), &end))
    end = std::numeric_limits<std::int64_t>::max();
  std::string result;
  std::int64_t position = 0;
  for (const char c : text) {
    if ((static_cast<unsigned char>(c) & 0xC0) != 0x80) ++position;
    if (position >= end) break;
    if (position >= from) result += c;
  }
  return result;
}

std::string change_case(std::string_view text, bool to_upper) {
  icu::UnicodeString unicode =
      icu::UnicodeString::fromUTF8(icu::StringPiece(text.data(), static_cast<int>(text.size())));
  // The root locale's rules: the same result on every machine.
  to_upper ? unicode.toUpper(icu::Locale::getRoot()) : unicode.toLower(icu::Locale::getRoot());
  std::string result;
  return unicode.toUTF8String(result);
}

std::string trimmed(std::string_view text) {
  const std::size_t begin = text.find_first_not_of(' ');
  if (begin == std::string_view::npos) return "";
  return std::string(text.substr(begin, text.find_last_not_of(' ') - begin + 1));
}

}  // namespace

void concat(const Node&, const Inputs& in, const Setting&, Vector& out) {
  make_text(in, out, [&](std::size_t i) { return std::string(in[0]->text[i]).append(in[1]->text[i]); });
}

void like(const Node&, const Inputs& in, const Setting&, Vector& out) {
  // The pattern is nearly always the same for all rows.
  std::optional<LikePattern> pattern;
  std::string_view read;
  const auto is_read = [&](std::string_view here) {
    return pattern && ((read.data() == here.data() && read.size() == here.size()) || read == here);
  };
  const auto take = [&](std::string_view here) {
    pattern.emplace(here);
    read = here;
  };
  if (in[0]->all_values && in[1]->all_values && out.size() != 0) {
    take(in[1]->text[0]);
    if (std::all_of(in[1]->text.begin(), in[1]->text.end(), is_read) && !pattern->longest_part().empty())
      return match_together(in[0]->text, *pattern, out);
  }
  map<std::string_view, std::string_view, std::int64_t>(
      *in[0], *in[1], out, [&](std::string_view text, std::string_view here, std::int64_t& r) {
        if (!is_read(here)) take(here);
        r = pattern->matches(text) ? 1 : 0;
        return State::value;
      });
}

void length(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map<std::string_view, std::int64_t>(*in[0], out, [](std::string_view s, std::int64_t& r) {
    r = utf8::unchecked::distance(s.begin(), s.end());
    return State::value;
  });
}

void upper(const Node&, const Inputs& in, const Setting&, Vector& out) {
  make_text(in, out, [&](std::size_t i) { return change_case(in[0]->text[i], true); });
}

void lower(const Node&, const Inputs& in, const Setting&, Vector& out) {
  make_text(in, out, [&](std::size_t i) { return change_case(in[0]->text[i], false); });
}

void trim(const Node&, const Inputs& in, const Setting&, Vector& out) {
  make_text(in, out, [&](std::size_t i) { return trimmed(in[0]->text[i]); });
}

void substring(const Node&, const Inputs& in, const Setting&, Vector& out) {
  make_text(in, out, [&](std::size_t i) {
    constexpr std::int64_t to_the_end = std::numeric_limits<std::int64_t>::max();
    return substring_of(in[0]->text[i], in[1]->narrow[i], in.size() > 2 ? in[2]->narrow[i] : to_the_end);
  });
}

void replace(const Node&, const Inputs& in, const Setting&, Vector& out) {
  make_text(in, out, [&](std::size_t i) { return replace_all(in[0]->text[i], in[1]->text[i], in[2]->text[i]); });
}

void starts_with(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map<std::string_view, std::string_view, std::int64_t>(*in[0], *in[1], out,
                                                        [](std::string_view a, std::string_view b, std::int64_t& r) {
                                                          r = a.starts_with(b) ? 1 : 0;
                                                          return State::value;
                                                        });
}

void ends_with(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map<std::string_view, std::string_view, std::int64_t>(*in[0], *in[1], out,
                                                        [](std::string_view a, std::string_view b, std::int64_t& r) {
                                                          r = a.ends_with(b) ? 1 : 0;
                                                          return State::value;
                                                        });
}

void contains(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map<std::string_view, std::string_view, std::int64_t>(*in[0], *in[1], out,
                                                        [](std::string_view a, std::string_view b, std::int64_t& r) {
                                                          r = a.find(b) != std::string_view::npos ? 1 : 0;
                                                          return State::value;
                                                        });
}

}  // namespace juniper::engine::kernels
