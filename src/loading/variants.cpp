#include "loading/variants.h"

#include "loading/load_beside.h"
#include "store/of_dataset.h"

namespace juniper::loading {

Result<TemporaryStore> TemporaryStore::load(const Dataset& dataset, const Model& model) {
  auto loaded = load_beside(model, store_path(dataset.model().path(), dataset.options()),
                            store::loaded_store_of(dataset), dataset.options());
  if (!loaded) return tl::unexpected(loaded.error());
  const std::string path = loaded->file->path();
  return TemporaryStore(std::make_shared<const Placed>(
      Placed{store::dataset_of(model, std::make_shared<const store::Store>(std::move(*loaded)), dataset.options(),
                               store::live_of(dataset)),
             path}));
}

Result<Model> model_beside(const Dataset& dataset, const std::vector<ModelText>& texts) {
  const std::filesystem::path folder = std::filesystem::path(dataset.model().path()).parent_path();
  std::vector<ModelText> placed = texts;
  for (ModelText& text : placed) text.name = (folder / text.name).lexically_normal().string();
  return Model::parse(placed, dataset.model().options());
}

Result<const Placed*> Variants::with(const std::map<std::string, std::string>& set) {
  if (set.empty()) return &placed_;
  if (const auto known = made_.find(set); known != made_.end()) return &known->second.placed();
  ReadOptions options = dataset().model().options();
  for (const auto& [name, value] : set) options.settings[name] = value;
  const auto model = Model::parse(dataset().model().texts(), options);
  if (!model) return tl::unexpected(model.error());
  auto made = TemporaryStore::load(dataset(), *model);
  if (!made) return tl::unexpected(made.error());
  return &made_.emplace(set, std::move(*made)).first->second.placed();
}

}  // namespace juniper::loading
