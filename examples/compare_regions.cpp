// Asks a typed query twice, for two years, and prints how each region's revenue has changed.
//
// usage: example_compare_regions MODEL
#include <juniper/ask.h>

#include <iostream>
#include <map>
#include <string>

namespace {

// Revenue by region in one year, in hundredths.
std::map<std::string, juniper::int128> revenue_of(const juniper::Dataset& dataset, int year) {
  const auto result =
      juniper::ask(dataset, {"by stations.region show revenue", {"days.year = " + std::to_string(year)}});
  std::map<std::string, juniper::int128> revenue;
  if (!result) {
    std::cerr << juniper::render(result.error());
    return revenue;
  }
  for (const juniper::ResultRow& row : result->rows) {
    const std::string region = row.cells[0].is_null() ? "(null)" : row.cells[0].text();
    revenue[region] = row.cells[1].is_null() ? 0 : row.cells[1].exact();
  }
  return revenue;
}

}  // namespace

int main(int count, char** words) {
  if (count != 2) {
    std::cerr << "usage: " << words[0] << " MODEL\n";
    return 2;
  }
  const auto dataset = juniper::Dataset::open(words[1]);
  if (!dataset) {
    std::cerr << juniper::render(dataset.error());
    return 3;
  }
  const auto before = revenue_of(*dataset, 2024);
  const auto after = revenue_of(*dataset, 2025);
  const juniper::Type amount{juniper::TypeKind::decimal, 2};
  for (const auto& [region, revenue] : after) {
    const auto was = before.find(region);
    const juniper::int128 change = revenue - (was == before.end() ? 0 : was->second);
    std::cout << region << ": " << to_text(juniper::Value::of(change), amount) << "\n";
  }
  return after.empty() ? 1 : 0;
}
