#include "engine/frame/frame.h"

namespace juniper::engine {

RowMap map_up(const Frame& frame, const Frame* above) {
  RowMap map;
  for (const Frame* at = &frame; at != above; at = at->parent.get()) {
    if (!at->up) continue;
    if (!map) {
      map = at->up;
      continue;
    }
    auto next = std::make_shared<std::vector<std::uint32_t>>(map->size());
    for (std::size_t i = 0; i < next->size(); ++i) (*next)[i] = (*at->up)[(*map)[i]];
    map = std::move(next);
  }
  return map;
}

VectorPtr gathered(const VectorPtr& values, const RowMap& map) {
  if (!map) return values;
  auto out = std::make_shared<Vector>();
  out->reset(values->repr, map->size());
  with_type(values->repr, [&](auto zero) {
    using T = decltype(zero);
    for (std::size_t i = 0; i < map->size(); ++i) {
      out->state[i] = values->state[(*map)[i]];
      out->template of<T>()[i] = values->of<T>()[(*map)[i]];
    }
  });
  if (!values->owned.empty()) {
    for (std::size_t i = 0; i < map->size(); ++i) {
      if (out->state[i] == State::value) out->text[i] = out->owned.emplace_back(out->text[i]);
    }
  }
  return out;
}

RowNumbers gathered(const RowNumbers& rows, const RowMap& map) {
  if (!map || !rows) return rows;
  auto out = std::make_shared<std::vector<std::uint64_t>>(map->size());
  for (std::size_t i = 0; i < map->size(); ++i) (*out)[i] = (*rows)[(*map)[i]];
  return out;
}

std::pair<const Frame*, const Binding*> find_binding(const Frame& frame, language::VariableId variable) {
  for (const Frame* at = &frame; at != nullptr; at = at->parent.get()) {
    if (const auto found = at->bindings.find(variable); found != at->bindings.end()) return {at, &found->second};
  }
  return {nullptr, nullptr};
}

}  // namespace juniper::engine
