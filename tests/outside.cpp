// What a user of the library writes: open a model, ask it something.
#include <juniper/ask.h>

#include <iostream>

int main(int count, char** words) {
  if (count != 2) return 2;
  const auto dataset = juniper::Dataset::open(words[1]);
  if (!dataset) {
    std::cerr << juniper::render(dataset.error());
    return 1;
  }
  const auto result = juniper::ask(*dataset, {"show n_sessions", {}});
  if (!result || result->rows.size() != 1) return 1;
  std::cout << "sessions: " << to_text(result->rows[0].cells[0], result->columns[0].type) << "\n";
  return 0;
}
