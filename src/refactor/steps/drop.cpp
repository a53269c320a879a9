// Takes a column or a measure that nothing uses out of the text.
#include <fmt/format.h>

#include "base/diagnostics.h"
#include "language/operations.h"
#include "model/access.h"
#include "model/uses.h"
#include "refactor/steps.h"
#include "refactor/text_edits.h"

namespace juniper::refactoring {

using namespace language;

namespace {

// Where rows are put in an order, their table's key settles ties.
Diagnostics orders_settled_by(const CheckedModel& model, ColumnId key) {
  Diagnostics found;
  each_definition(model, [&](const Definition& definition) {
    walk(definition, [&](const Node& n) {
      const bool orders = n.op == Op::aggregate && order_tells(n.aggregate);
      if (orders && base_table(n.rows) == key.table) {
        found.push_back(definition.model->sources.diagnostic(
            Severity::error, "JR-803", n.span,
            fmt::format("{} stays: where rows are equal here, their table's key tells which comes first",
                        model.column_name(key)),
            ""));
      }
    });
  });
  return found;
}

Result<Applied> drop_measure(const Model& read, const Step& step) {
  const CheckedModel& model = model::checked(read);
  const auto index = model.find_measure(step.column);
  if (!index) {
    return tl::unexpected(base::error("JR-801", fmt::format("there is no measure '{}'", step.column),
                                      base::did_you_mean(step.column, names_of(read.measures()))));
  }
  const Measure& measure = model.measures[*index];
  Diagnostics blocked;
  const auto block = [&](Span span, const std::string& why) {
    blocked.push_back(model.sources.diagnostic(Severity::error, "JR-803", span,
                                               fmt::format("the measure '{}' stays: {}", measure.name, why), ""));
  };
  each_definition(model, [&](const Definition& definition) {
    each_mention(definition, [&](const Mention& mention) {
      if (!mention.measure || definition.model->measures[*mention.measure].name != measure.name) return;
      if (definition.query != nullptr && is_draft(*definition.query, definition.model->measures[*mention.measure]))
        return;
      if (definition.role == Role::declared) {
        block(mention.span, fmt::format("\"{}\" uses it", definition.name));
      } else {
        block(mention.span, definition.query != nullptr && definition.query->captured
                                ? fmt::format("the captured query {} names it", definition.name)
                                : "it is named here");
      }
    });
  });
  if (!blocked.empty()) return tl::unexpected(std::move(blocked));
  TextEdits edits;
  edits.remove_declaration(model.sources[measure.span.file].text, measure.span);
  Applied made;
  made.texts = edits.apply(read.texts());
  return made;
}

}  // namespace

Result<Applied> drop(const Model& read, const Step& step) {
  if (step.table.empty()) return drop_measure(read, step);
  const CheckedModel& model = model::checked(read);
  const auto id = find_column(model, step);
  if (!id) return tl::unexpected(id.error());
  const Column& column = model.column(*id);
  Diagnostics blocked;
  const model::Uses uses(model);
  for (const model::User& user : uses.of(*id)) {
    blocked.push_back(model.sources.diagnostic(
        Severity::error, "JR-803", user.span,
        fmt::format("{} stays: the {} {} uses it", model.column_name(*id), to_string(user.kind), user.name),
        user.kind == UserKind::declared ? "take `used by` out when that is over" : ""));
  }
  if (column.from_row) {
    blocked.push_back(model.sources.diagnostic(
        Severity::error, "JR-803", column.name_span,
        fmt::format("{} stays: its table's rows are made with it", model.column_name(*id)), ""));
  }
  if (column.key) {
    const Diagnostics orders = orders_settled_by(model, *id);
    blocked.insert(blocked.end(), orders.begin(), orders.end());
  }
  if (!blocked.empty()) return tl::unexpected(std::move(blocked));
  TextEdits edits;
  edits.remove_declaration(model.sources[column.span.file].text, column.span);
  Applied made;
  made.texts = edits.apply(read.texts());
  if (column.key) {
    made.notes.push_back(
        fmt::format("{} is of the key of {}: where a query that the model does not know puts rows in an order with "
                    "first, last or list, equal rows may come in another one now",
                    model.column_name(*id), model.tables[id->table].name));
  }
  return made;
}

}  // namespace juniper::refactoring
