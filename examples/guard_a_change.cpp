// Proposes a refactoring (by default, to move a calculated column into the measures that use it), and says whether that
// is safe and what it saves.
// Nothing is written.
//
// usage: example_guard_a_change MODEL [PLAN]
#include <juniper/refactor.h>

#include <iostream>

int main(int count, char** words) {
  if (count < 2 || count > 3) {
    std::cerr << "usage: " << words[0] << " MODEL [PLAN]\n";
    return 2;
  }
  const auto dataset = juniper::Dataset::open(words[1]);
  if (!dataset) {
    std::cerr << juniper::render(dataset.error());
    return 3;
  }
  const auto change = juniper::refactor(*dataset, count == 3 ? words[2] : "inline sessions.price_paid");
  if (!change) {
    std::cerr << juniper::render(change.error());
    return 1;
  }
  std::cout << change->diff << (change->proved() ? "safe" : "NOT safe") << ": " << change->rows.size()
            << " columns and " << change->queries.size() << " queries compared, " << change->ledger.bytes_before.total()
            << " bytes before, " << change->ledger.bytes_after.total() << " after\n";
  return change->proved() ? 0 : 1;
}
