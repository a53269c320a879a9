// Kernels that make texts of values, and values of texts: a text that holds none gives null.
#include "base/conversion.h"

#include <string>
#include <string_view>

#include "base/format.h"
#include "engine/vector/operations/kernels.h"
#include "engine/vector/operations/map.h"

namespace juniper::engine::kernels {

using language::Node;

namespace {

template <class Result, class Read>
void map_texts(const Inputs& in, Vector& out, const Read& read) {
  map<std::string_view, Result>(*in[0], out, [&](std::string_view text, Result& result) {
    const auto value = read(text);
    result = value.value_or(Result{});
    return value ? State::value : State::null;
  });
}

std::string_view pattern_of(const Node& node) {
  return node.children.size() > 1 ? std::string_view(node.children[1]->literal.text()) : std::string_view();
}

}  // namespace

void text(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  const Type type = node.children[0]->type;
  if (node.children.size() == 1)
    return make_text({in[0]}, out, [&](std::size_t i) { return to_text(in[0]->value_at(i), type); });
  const base::ValueFormat format(type, pattern_of(node));
  make_text({in[0]}, out, [&](std::size_t i) { return format.text(in[0]->value_at(i)); });
}

void integer_from(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map_texts<std::int64_t>(in, out, base::integer_from);
}

void decimal_from(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  map_texts<std::int64_t>(in, out, [&](std::string_view text) { return base::decimal_from(text, node.type.scale); });
}

void real_from(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map_texts<double>(in, out, base::real_from);
}

void date_from(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  map_texts<std::int64_t>(in, out, [&](std::string_view text) { return base::date_from(text, pattern_of(node)); });
}

void datetime_from(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  map_texts<std::int64_t>(in, out, [&](std::string_view text) { return base::datetime_from(text, pattern_of(node)); });
}

}  // namespace juniper::engine::kernels
