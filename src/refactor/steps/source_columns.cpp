// Other columns from the same fields of the source: a timestamp in two, another type, fewer digits.
#include <fmt/format.h>

#include <set>

#include "language/lexer.h"
#include "language/operations.h"
#include "language/traverse.h"
#include "model/access.h"
#include "model/uses.h"
#include "refactor/steps.h"
#include "refactor/text_edits.h"

namespace juniper::refactoring {

using namespace language;

namespace {

Diagnostics at_column(const CheckedModel& model, ColumnId id, const char* code, const std::string& what,
                      const std::string& fix) {
  return {model.sources.diagnostic(Severity::error, code, model.column(id).name_span,
                                   fmt::format("{} {}", model.column_name(id), what), fix)};
}

// A column that is the whole of a source's fields.
Result<ColumnId> find_source_column(const CheckedModel& model, const Step& step) {
  const auto id = find_column(model, step);
  if (!id) return id;
  const Column& column = model.column(*id);
  if (column.is_calculated() || column.from_row)
    return tl::unexpected(at_column(model, *id, "JR-802", "is calculated, not read from a source", ""));
  if (column.part != base::FieldPart::whole) {
    return tl::unexpected(
        at_column(model, *id, "JR-802", "is a part of its source's fields already", "change its declaration by hand"));
  }
  return id;
}

// The parts of a timestamp wherever it is named.
class TimestampParts {
 public:
  TimestampParts(ColumnId id, std::string name, std::string date, std::string time, TextEdits& edits)
      : id_(id), name_(std::move(name)), date_(std::move(date)), time_(std::move(time)), edits_(edits) {}

  // False if a name could not be told from what stands before it.
  bool rewrite(const CheckedModel& model, const NodePtr& expression) {
    bool told = true;
    std::set<std::pair<std::uint32_t, std::uint32_t>> done;  // what stood in a function of one part
    walk(expression, [&](const Node& n) {
      const bool call = n.op == Op::call && !n.children.empty();
      if (call && n.children[0]->op == Op::column && n.children[0]->column.column == id_) {
        const Span inner = n.children[0]->span;
        const auto before = prefix(model, inner);
        const std::string* const part = part_for(n.function);
        if (before && part != nullptr) {
          const bool whole = n.function == Function::date || n.function == Function::time;
          edits_.replace(whole ? n.span : inner, *before + *part);
          done.insert({inner.begin, inner.end});
        }
      }
      if (n.op != Op::column || n.column.column != id_ || done.contains({n.span.begin, n.span.end})) return;
      const auto before = prefix(model, n.span);
      if (!before) {
        told = false;
      } else {
        edits_.replace(n.span, fmt::format("datetime({0}{1}, {0}{2})", *before, date_, time_));
      }
    });
    return told;
  }

 private:
  const std::string* part_for(Function function) const {
    const FunctionEntry* const entry = find_function(id_of(function));
    if (entry == nullptr) return nullptr;
    const Signature signature = entry->signature;
    if (signature == Signature::date_part || signature == Signature::to_date) return &date_;
    if (signature == Signature::time_part || signature == Signature::to_time) return &time_;
    return nullptr;
  }
  // What stands before the column's name: "s.", "sessions.", "".
  std::optional<std::string> prefix(const CheckedModel& model, Span span) const {
    const std::string text(model.sources.text(span));
    for (const std::string& written : {name_, "`" + name_ + "`"}) {
      if (text.ends_with(written)) return text.substr(0, text.size() - written.size());
    }
    return std::nullopt;
  }

  ColumnId id_;
  std::string name_;
  std::string date_;
  std::string time_;
  TextEdits& edits_;
};

// What needs the timestamp in one piece.
Diagnostics splitting_blockers(const CheckedModel& model, ColumnId id) {
  Diagnostics found;
  const auto block = [&](Span span, const std::string& why, const std::string& way_round) {
    found.push_back(model.sources.diagnostic(Severity::error, "JR-803", span,
                                             fmt::format("{} stays whole: {}", model.column_name(id), why), way_round));
  };
  if (model.column(id).key) block(model.column(id).name_span, "it is a key", "");
  each_definition(model, [&](const Definition& definition) {
    each_mention(definition, [&](const Mention& mention) {
      if (mention.column != id) return;
      switch (mention.manner) {
        case Manner::read:
        case Manner::filter:
          if (definition.role == Role::calculated_table)
            block(definition.span, fmt::format("the calculated table {} needs it", definition.name), "");
          return;
        case Manner::group:
          if (definition.role == Role::key) {
            block(mention.span, fmt::format("query '{}' groups by it", definition.name),
                  "group by its date or its time of day");
          } else {
            block(mention.span, "rows are told apart by it here", "");
          }
          return;
        case Manner::grouping:
          return block(mention.span, "it is asked for by name here", "");
        case Manner::dropped:
          return block(mention.span, "filters on it are dropped here", "");
        case Manner::followed:
          return;
        case Manner::listed:
          return block(mention.span,
                       fmt::format("the {} {} needs it", to_string(model::kind_of(definition.role)), definition.name),
                       "");
      }
    });
  });
  return found;
}

// What nobody can follow when the values or the type of a column change: uses that the text declares and does not show,
// other columns' order, and the rows of calculated tables.
Diagnostics changing_blockers(const CheckedModel& model, ColumnId id, bool changes_order) {
  Diagnostics found;
  const auto block = [&](Span span, const std::string& why, const std::string& way_round) {
    found.push_back(model.sources.diagnostic(
        Severity::error, "JR-803", span, fmt::format("{} stays as it is: {}", model.column_name(id), why), way_round));
  };
  const model::Uses uses(model);
  for (const model::User& user : uses.of(id)) {
    if (user.kind == UserKind::declared)
      block(user.span, fmt::format("\"{}\" uses it, as its declaration says", user.name),
            "take `used by` out when that is over");
    if (user.kind == UserKind::sort_order && changes_order)
      block(user.span, fmt::format("{} is sorted by it, and would stand in another order", user.name),
            "change it by hand, and look at what is sorted");
  }
  for (const Table& table : model.tables) {
    if (table.rows && needs_of(model, table.rows).columns.contains(id))
      block(table.span, fmt::format("the calculated table {} is made from it", table.name), "");
  }
  return found;
}

// Claims that every calculated column that rests on a column, directly or through others, holds what it held.
void claim_dependents(const CheckedModel& model, ColumnId id, Applied& applied) {
  std::set<ColumnId> reached{id};
  for (bool grown = true; grown;) {
    grown = false;
    for (TableIndex t = 0; t < model.tables.size(); ++t) {
      for (std::uint32_t c = 0; c < model.tables[t].columns.size(); ++c) {
        const Column& column = model.tables[t].columns[c];
        if (!column.is_calculated() || reached.contains({t, c})) continue;
        const Needs needs = needs_of(model, column.expression, t);
        const bool by_column =
            std::any_of(reached.begin(), reached.end(), [&](ColumnId below) { return needs.columns.contains(below); });
        const bool by_link = std::any_of(needs.links.begin(), needs.links.end(), [&](LinkIndex link) {
          return std::any_of(reached.begin(), reached.end(), [&](ColumnId below) {
            return model.links[link].from.reads(below) || model.links[link].to.reads(below);
          });
        });
        if (!by_column && !by_link) continue;
        reached.insert({t, c});
        applied.claims.push_back({Claim::Kind::kept, model.tables[t].name, column.name, {}, "", false});
        grown = true;
      }
    }
  }
}

// What is declared about a column, for those that take its place.
std::string attributes_of(const Column& column) {
  return column.description.empty() ? "" : "  " + written_text(column.description);
}

}  // namespace

Result<Applied> split_timestamp(const Model& read, const Step& step) {
  const CheckedModel& model = model::checked(read);
  const auto id = find_source_column(model, step);
  if (!id) return tl::unexpected(id.error());
  const Column& column = model.column(*id);
  if (column.type.kind != TypeKind::datetime)
    return tl::unexpected(at_column(model, *id, "JR-802", fmt::format("is of type {}", to_string(column.type)),
                                    "only a datetime is split in date and time of day"));
  if (Diagnostics blocked = splitting_blockers(model, *id); !blocked.empty()) return tl::unexpected(std::move(blocked));
  const std::string date = step.date_name.empty() ? column.name + "_date" : step.date_name;
  const std::string time = step.time_name.empty() ? column.name + "_time" : step.time_name;
  TextEdits edits;
  const std::string flag = column.hidden ? "hidden " : "";
  const std::string header = written_text(column.header);
  const std::string attributes = attributes_of(column);
  // Each on a line of its own, under the one before.
  const std::string& text = model.sources[column.span.file].text;
  std::uint32_t line = column.span.begin;
  while (line > 0 && text[line - 1] != '\n') --line;
  const bool own_line = text.find_first_not_of(" \t", line) == column.span.begin;
  const std::string between = own_line ? "\n" + text.substr(line, column.span.begin - line) : "  ";
  edits.replace(column.span, fmt::format("{0}{1} date from date({3}){4}{5}{0}{2} time from time({3}){4}", flag,
                                         written_name(date), written_name(time), header, attributes, between));
  TimestampParts parts(*id, column.name, written_name(date), written_name(time), edits);
  bool told = true;
  each_definition(model, [&](const Definition& definition) {
    told = parts.rewrite(*definition.model, definition.expression) && told;
  });
  if (!told)
    return tl::unexpected(at_column(model, *id, "JR-803", "is named in a way that this step does not rewrite", ""));
  Applied made;
  made.texts = edits.apply(read.texts());
  made.claims.push_back({Claim::Kind::split, step.table, step.column, {date, time}, "", true});
  if (!column.format.empty())
    made.notes.push_back(fmt::format("the format {} of {} fits neither part, and is left out",
                                     written_text(column.format), model.column_name(*id)));
  if (auto again = read_again(read, made.texts, step); !again) return tl::unexpected(again.error());
  return made;
}

Result<Applied> retype_column(const Model& read, const Step& step) {
  const CheckedModel& model = model::checked(read);
  const auto id = find_source_column(model, step);
  if (!id) return tl::unexpected(id.error());
  const Column& column = model.column(*id);
  const auto exact = [](Type type) { return type.is_exact_number(); };
  if (column.type == step.type) return tl::unexpected(at_column(model, *id, "JR-802", "has this type already", ""));
  if (column.type.kind != TypeKind::text && !(exact(column.type) && exact(step.type))) {
    return tl::unexpected(at_column(model, *id, "JR-802",
                                    fmt::format("can't go from {} to {}", to_string(column.type), to_string(step.type)),
                                    "texts take any type that holds them, whole and decimal numbers each other's"));
  }
  // The rows of a result stand in the order of their keys, and a key has its type.
  Diagnostics blocked = changing_blockers(model, *id, column.type.kind == TypeKind::text);
  for (const Query& query : model.queries) {
    for (const QueryBy& key : query.by) {
      if (key.is_column() && key.column().column == *id && column.type.kind == TypeKind::text) {
        blocked.push_back(model.sources.diagnostic(
            Severity::error, "JR-803", key.span,
            fmt::format("{} stays a text: query '{}' groups by it, and shows texts in their order",
                        model.column_name(*id), query.name),
            "retype it by hand, and look at the query's result"));
      }
    }
  }
  if (!blocked.empty()) return tl::unexpected(std::move(blocked));
  TextEdits edits;
  const bool renamed = column.header != column.name;
  edits.replace(column.source_span,
                to_string(step.type) + (renamed ? fmt::format(" from {}", written_text(column.header)) : ""));
  Applied made;
  made.texts = edits.apply(read.texts());
  made.claims.push_back({Claim::Kind::retyped, step.table, step.column, {}, "", false});
  claim_dependents(model, *id, made);
  if (auto again = read_again(read, made.texts, step); !again) return tl::unexpected(again.error());
  return made;
}

Result<Applied> round_column(const Model& read, const Step& step) {
  const CheckedModel& model = model::checked(read);
  const auto id = find_source_column(model, step);
  if (!id) return tl::unexpected(id.error());
  const Column& column = model.column(*id);
  if (!column.type.is_exact_number() || !step.type.is_exact_number() || step.type.scale >= column.type.scale) {
    return tl::unexpected(
        at_column(model, *id, "JR-802",
                  fmt::format("can't be rounded from {} to {}", to_string(column.type), to_string(step.type)),
                  "a decimal is rounded to one with fewer digits, or to an integer"));
  }
  if (Diagnostics blocked = changing_blockers(model, *id, true); !blocked.empty())
    return tl::unexpected(std::move(blocked));
  TextEdits edits;
  edits.replace(column.source_span,
                fmt::format("{} from round({})", to_string(step.type), written_text(column.header)));
  Applied made;
  made.texts = edits.apply(read.texts());
  made.claims.push_back({Claim::Kind::rounded, step.table, step.column, {}, "", false});
  claim_dependents(model, *id, made);
  if (auto again = read_again(read, made.texts, step); !again) return tl::unexpected(again.error());
  return made;
}

}  // namespace juniper::refactoring
