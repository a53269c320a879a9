// A dataset under other texts or other values of its parameters: in stores beside its own, which go when they are used no
// more.
#pragma once

#include <filesystem>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "juniper/dataset.h"

namespace juniper::loading {

// A dataset, and the file of its store.
struct Placed {
  Dataset dataset;
  std::filesystem::path store;
};

// The model of texts that are named as seen from the folder of the dataset's model. Errors: those of reading texts.
Result<Model> model_beside(const Dataset& dataset, const std::vector<ModelText>& texts);

// The store that was loaded for a model over the data of a dataset; its file goes with the last copy of this.
class TemporaryStore {
 public:
  // Errors: those of loading.
  static Result<TemporaryStore> load(const Dataset& dataset, const Model& model);
  const Placed& placed() const { return *placed_; }

 private:
  explicit TemporaryStore(std::shared_ptr<const Placed> placed) : placed_(std::move(placed)) {}
  std::shared_ptr<const Placed> placed_;
};

// A dataset as it is with other values of its parameters. Kept, so that each is made once.
class Variants {
 public:
  explicit Variants(Placed placed) : placed_(std::move(placed)) {}
  explicit Variants(TemporaryStore store) : placed_(store.placed()), own_(std::move(store)) {}
  const Dataset& dataset() const { return placed_.dataset; }
  // Lives as long as this. Errors: JR-213 (no such parameter, or a value that does not fit) and those of computing what
  // is stored anew.
  Result<const Placed*> with(const std::map<std::string, std::string>& set);

 private:
  Placed placed_;
  std::optional<TemporaryStore> own_;
  std::map<std::map<std::string, std::string>, TemporaryStore> made_;
};

}  // namespace juniper::loading
