// Prints the five heaviest columns of a model that nothing uses.
//
// usage: example_heaviest_columns MODEL
#include <juniper/dataset.h>
#include <juniper/weigh.h>

#include <iostream>

int main(int count, char** words) {
  if (count != 2) {
    std::cerr << "usage: " << words[0] << " MODEL\n";
    return 2;
  }
  // Loads the model's sources first when its store is not fresh.
  const auto dataset = juniper::Dataset::open(words[1]);
  if (!dataset) {
    std::cerr << juniper::render(dataset.error());
    return 3;
  }
  const juniper::Weighing weighing = juniper::weigh(*dataset).value();
  int shown = 0;
  for (const juniper::ColumnWeight& column : weighing.columns) {  // heaviest first
    if (!column.used_by.empty() || ++shown > 5) continue;
    std::cout << column.table << "." << column.column << ": " << column.total_bytes() << " bytes, " << column.distinct
              << " distinct values\n";
  }
  return 0;
}
