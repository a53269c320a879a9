#include "completion.h"

#include <algorithm>
#include <set>

#include "juniper/audit.h"
#include "juniper/model.h"
#include "parse.h"

namespace juniper::tool {

namespace {

constexpr const char* steps[] = {"apply",  "drop",  "inline", "relink", "reorder",
                                 "retype", "round", "split",  "store",  "trim"};

// The line up to the word that is completed.
class Line {
 public:
  Line(const CommandLine& line, std::vector<std::string> words) : line_(line), words_(std::move(words)) {
    if (words_.empty()) words_.emplace_back();
    last_ = std::move(words_.back());
    words_.pop_back();
    if (const auto place = place_of_command(line, words_)) {
      command_ = line.find(words_[*place]);
      place_ = *place;
      names_command_ = true;
    }
  }

  Completions complete() {
    const Option* const awaited = option_awaiting_value();
    const std::size_t equals = last_.find('=');
    if (awaited != nullptr) {
      add_values(*awaited, last_, "");
    } else if (last_.starts_with("--") && equals != std::string::npos) {
      if (const Option* option = find(last_.substr(0, equals)))
        add_values(*option, last_.substr(equals + 1), last_.substr(0, equals + 1));
    } else if (last_.starts_with('-')) {
      add_options();
    } else if (!names_command_) {
      for (const Command& command : line_.commands) add(command.name, command.summary);
    } else if (command_ != nullptr) {
      add_argument();
    }
    return std::move(completions_);
  }

 private:
  const Option* find(const std::string& name) const {
    if (command_ != nullptr) {
      if (const Option* option = command_->find(name)) return option;
    }
    for (const Option& option : line_.common) {
      if (option.name == name) return &option;
    }
    return nullptr;
  }

  // The option whose value the last word is.
  const Option* option_awaiting_value() const {
    for (std::size_t i = words_.size(); i-- > 0;) {
      if (!words_[i].starts_with('-')) {
        continue;
      }
      const Option* const option = find(words_[i]);
      if (option == nullptr || !option->has_value()) return nullptr;
      const bool takes_more = i + 1 == words_.size() || option->times == Times::list;
      return takes_more && !(last_.starts_with('-') && i + 1 < words_.size()) ? option : nullptr;
    }
    return nullptr;
  }

  // The words that stand for arguments, those of the command's name and of options left out.
  std::vector<std::string> arguments() const {
    std::vector<std::string> found;
    for (std::size_t i = 0; i < words_.size(); ++i) {
      if (words_[i].starts_with('-')) {
        const Option* const option = find(words_[i]);
        if (option != nullptr && option->has_value()) ++i;
      } else if (!(names_command_ && i == place_)) {
        found.push_back(words_[i]);
      }
    }
    return found;
  }

  void add_argument() {
    const auto known = command_->arguments();
    const std::size_t given = arguments().size();
    if (known.empty()) return;
    const Option& option = *known[std::min(given, known.size() - 1)];
    if (given >= known.size() && option.times != Times::list) return;
    add_values(option, last_, "");
  }

  void add_options() {
    for (const auto* list : {command_ != nullptr ? &command_->options : nullptr, &line_.common}) {
      if (list == nullptr) continue;
      for (const Option& option : *list) {
        const bool is_given = std::find(words_.begin(), words_.end(), option.name) != words_.end();
        if (!option.is_argument() && (!is_given || option.times != Times::once)) add(option.name, option.help);
      }
    }
  }

  void add(const std::string& word, const std::string& about) {
    if (word.starts_with(last_)) completions_.words.push_back({word, about});
  }

  void add_values(const Option& option, const std::string& begun, const std::string& before) {
    const auto add_value = [&](const std::string& word, const std::string& about = "") {
      if (word.starts_with(begun)) completions_.words.push_back({before + word, about});
    };
    for (const std::string& word : option.words) add_value(word);
    switch (option.names) {
      case Names::nothing:
        break;
      case Names::file:
        completions_.files = true;
        break;
      case Names::folder:
        completions_.folders = true;
        break;
      case Names::command:
        for (const Command& command : line_.commands) add_value(command.name, command.summary);
        break;
      case Names::audit_rule:
        for (const AuditRule& rule : audit_rules()) add_value(rule.code, rule.title);
        break;
      case Names::step:
        for (const char* step : steps) add_value(step);
        add_names(Names::anything, add_value);
        break;
      case Names::query:
      case Names::measure:
      case Names::parameter:
      case Names::reader:
      case Names::anything:
        add_names(option.names, add_value);
        break;
    }
  }

  template <class Add>
  void add_names(Names names, const Add& add_value) const {
    const auto given = arguments();
    if (given.empty()) return;
    Options options;
    options.reading.disable_wrong = true;
    const auto model = read_model(given.front(), options);
    if (!model) return;
    const bool all = names == Names::anything;
    if (all || names == Names::query) {
      for (const QueryInfo& query : model->queries())
        add_value(query.name, query.title.empty() ? "query" : query.title);
    }
    if (all || names == Names::measure) {
      for (const MeasureInfo& measure : model->measures())
        add_value(measure.name, measure.description.empty() ? "measure" : measure.description);
    }
    if (all || names == Names::parameter) {
      for (const ParameterInfo& parameter : model->parameters()) add_value(parameter.name, "parameter");
    }
    if (all || names == Names::reader) {
      for (const ReaderInfo& reader : model->readers())
        add_value(reader.name, reader.description.empty() ? "reader" : reader.description);
    }
    if (!all) return;
    for (const FunctionInfo& function : model->functions())
      add_value(function.name, function.description.empty() ? "function" : function.description);
    for (const TableInfo& table : model->tables()) {
      add_value(table.name, "table");
      for (const ColumnInfo& column : table.columns) add_value(table.name + "." + column.name, to_string(column.type));
    }
  }

  const CommandLine& line_;
  std::vector<std::string> words_;
  std::string last_;
  const Command* command_ = nullptr;
  std::size_t place_ = 0;  // of the command's name
  bool names_command_ = false;
  Completions completions_;
};

// Without what ends a line, or hides what stands before it.
std::string shown(std::string text) {
  std::replace_if(
      text.begin(), text.end(), [](unsigned char c) { return c < ' ' || c == 127; }, ' ');
  return text;
}

}  // namespace

Completions complete(const CommandLine& line, const std::vector<std::string>& words) {
  return Line(line, words).complete();
}

std::string to_text(const Completions& completions) {
  std::string out;
  for (const Completion& completion : completions.words) {
    out += shown(completion.word);
    if (!completion.about.empty()) out += "\t" + shown(completion.about);
    out += "\n";
  }
  if (completions.files) out += ":files\n";
  if (completions.folders) out += ":folders\n";
  return out;
}

}  // namespace juniper::tool
