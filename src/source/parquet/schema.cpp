#include "source/parquet/schema.h"

#include <fmt/format.h>

#include <stdexcept>

#include "base/exact.h"

namespace juniper::source::parquet {

namespace {

// The type of a leaf's values, or why they have none here.
void set_type(Leaf& leaf) {
  const SchemaElement& element = leaf.element;
  const auto refuse = [&](std::string reason) {
    if (leaf.refusal.empty()) leaf.refusal = std::move(reason);
  };
  switch (element.meaning) {
    case Meaning::decimal:
      if (element.scale < 0 || element.scale > base::max_scale) {
        return refuse(fmt::format("it is a decimal with {} digits after the point, and here are at most {}",
                                  element.scale, base::max_scale));
      }
      leaf.type = {TypeKind::decimal, static_cast<std::uint8_t>(element.scale)};
      return;
    case Meaning::date:
      leaf.type = {TypeKind::date, 0};
      return;
    case Meaning::time:
      leaf.type = {TypeKind::time, 0};
      return;
    case Meaning::moment:
      leaf.type = {TypeKind::datetime, 0};
      return;
    case Meaning::half_real:
      leaf.type = {TypeKind::real, 0};
      return;
    case Meaning::list:
      return refuse("it is a list");
    case Meaning::map:
      return refuse("it is a map");
    case Meaning::interval:
      return refuse("it is an interval");
    case Meaning::none:
    case Meaning::text:
    case Meaning::signed_number:
    case Meaning::unsigned_number:
    case Meaning::uuid:
    case Meaning::nothing:
      break;
  }
  switch (*element.type) {
    case Physical::boolean:
      leaf.type = {TypeKind::boolean, 0};
      return;
    case Physical::int32:
    case Physical::int64:
      leaf.type = {TypeKind::integer, 0};
      return;
    case Physical::int96:
      leaf.type = {TypeKind::datetime, 0};
      return;
    case Physical::real32:
    case Physical::real64:
      leaf.type = {TypeKind::real, 0};
      return;
    case Physical::bytes:
    case Physical::fixed_bytes:
      leaf.type = {TypeKind::text, 0};
      return;
  }
}

// Whether what a meaning needs stands in the bytes that it is said of.
bool fits(const SchemaElement& element) {
  const Physical type = *element.type;
  if (type == Physical::fixed_bytes && element.length <= 0) return false;
  switch (element.meaning) {
    case Meaning::decimal:
      return type == Physical::int32 || type == Physical::int64 || type == Physical::bytes ||
             (type == Physical::fixed_bytes && element.length <= 1024);
    case Meaning::date:
      return type == Physical::int32;
    case Meaning::time:
      return type == (element.unit == TimeUnit::milliseconds ? Physical::int32 : Physical::int64);
    case Meaning::moment:
      return type == Physical::int64;
    case Meaning::signed_number:
    case Meaning::unsigned_number:
      return type == Physical::int32 || type == Physical::int64;
    case Meaning::uuid:
      return type == Physical::fixed_bytes && element.length == 16;
    case Meaning::half_real:
      return type == Physical::fixed_bytes && element.length == 2;
    case Meaning::text:
      return type == Physical::bytes || type == Physical::fixed_bytes;
    case Meaning::none:
    case Meaning::nothing:
    case Meaning::list:
    case Meaning::map:
    case Meaning::interval:
      return true;
  }
  return false;
}

class Walk {
 public:
  explicit Walk(const std::vector<SchemaElement>& schema) : schema_(schema) {}

  std::vector<Leaf> run() {
    if (schema_.empty()) throw std::runtime_error("a schema without a root");
    next_ = 1;
    for (std::int32_t c = 0; c < schema_[0].children; ++c) element({}, 0);
    if (next_ != schema_.size()) throw std::runtime_error("a schema with more elements than it has places for");
    return std::move(leaves_);
  }

 private:
  static constexpr unsigned most_levels = 64;

  // The next element and what is below it; `around`: a leaf with what holds for all below a structure.
  void element(const Leaf& around, unsigned depth) {
    if (next_ == schema_.size()) throw std::runtime_error("a schema that ends before all its elements");
    if (depth == most_levels) throw std::runtime_error("a schema that is too deep");
    Leaf here = around;
    here.element = schema_[next_++];
    here.name += (here.name.empty() ? "" : ".") + here.element.name;
    if (here.element.repetition != 0) ++here.full_level;
    if (here.refusal.empty()) {
      if (here.element.meaning == Meaning::map) {
        here.refusal = "it is a map";
      } else if (here.element.repetition == 2 || here.element.meaning == Meaning::list) {
        here.refusal = "it is a list";
      }
    }
    if (here.element.children > 0) {
      for (std::int32_t c = 0; c < here.element.children; ++c) element(here, depth + 1);
      return;
    }
    if (!here.element.type) throw std::runtime_error("a column without a type");
    if (!fits(here.element))
      throw std::runtime_error(fmt::format("a column, '{}', of a type that its bytes can't hold", here.name));
    here.chunk = leaves_.size();
    set_type(here);
    leaves_.push_back(std::move(here));
  }

  const std::vector<SchemaElement>& schema_;
  std::size_t next_ = 0;
  std::vector<Leaf> leaves_;
};

}  // namespace

std::vector<Leaf> leaves_of(const FileData& file) {
  return Walk(file.schema).run();
}

}  // namespace juniper::source::parquet
