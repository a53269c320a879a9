// What a user of the library writes: open a model, ask it something, hand the answer on.
#include <juniper/arrow.h>
#include <juniper/ask.h>
#include <juniper/demo.h>

#include <iostream>

int main(int count, char** words) {
  if (count != 2) return 2;
  const auto dataset = juniper::Dataset::open(words[1]);
  if (!dataset) {
    std::cerr << juniper::render(dataset.error());
    return 1;
  }
  const auto result = juniper::ask(*dataset, {"show n_sessions"});
  if (!result || result->rows.size() != 1) return 1;
  std::cout << "sessions: " << result->text(0, "n_sessions").value_or("?") << "\n";
  ArrowSchema schema;
  ArrowArray array;
  if (!juniper::to_arrow(*result, schema, array)) return 1;
  const bool is_whole = array.length == 1 && array.n_children == 2;
  schema.release(&schema);
  array.release(&array);
  return is_whole && juniper::DemoOptions().sessions > 0 ? 0 : 1;
}
