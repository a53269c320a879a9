#include "engine/scan/find_rows.h"

#include <algorithm>

#include "base/parallel.h"
#include "engine/scan/row_test.h"

namespace juniper::engine {

FoundRows find_rows(const Source& source, const RowsRequest& request, unsigned threads) {
  Program program(source, request.table);
  std::vector<Program::StepIndex> keys;
  for (const ScanKey& key : request.keys) keys.push_back(program.add_key(key));
  const std::vector<RowTest> tests = tests_of(program, request.conditions, keys, request.wanted);
  Program::CodesSet read;
  for (const RowTest& test : tests) test.add_read(program, read);
  for (const auto key : keys) program.add_read(key, read);

  constexpr std::size_t blocks_of_part = 16;
  std::vector<FoundRows> parts((program.blocks() + blocks_of_part - 1) / blocks_of_part);
  base::parallel_for(parts.size(), threads, [&](std::size_t p) {
    source.check();
    FoundRows& part = parts[p];
    part.codes.resize(keys.size());
    Program::Registers registers;
    std::vector<std::uint32_t> found(store::block_rows + 16);
    std::vector<std::uint32_t> overflowed;
    for (std::size_t block = p * blocks_of_part; block < std::min((p + 1) * blocks_of_part, program.blocks());
         ++block) {
      program.begin(block, registers);
      for (const RowTest& test : tests) {
        if (registers.count() == 0) break;
        const std::size_t count = test.find(program, registers, found, &overflowed);
        program.keep(std::span(found).first(count), read, registers);
      }
      if (registers.count() == 0) continue;
      const auto first = static_cast<std::uint32_t>(block * store::block_rows);
      for (std::size_t i = 0; i < registers.count(); ++i) part.rows.push_back(first + registers.position(i));
      for (std::size_t k = 0; k < keys.size(); ++k) {
        const std::span<const std::uint64_t> codes = program.value(keys[k], registers).codes();
        part.codes[k].insert(part.codes[k].end(), codes.begin(), codes.begin() + registers.count());
      }
    }
    part.overflow = !overflowed.empty();
  });

  FoundRows all;
  all.codes.resize(keys.size());
  std::size_t count = 0;
  for (const FoundRows& part : parts) count += part.rows.size();
  all.rows.reserve(count);
  for (auto& codes : all.codes) codes.reserve(count);
  for (const FoundRows& part : parts) {
    all.rows.insert(all.rows.end(), part.rows.begin(), part.rows.end());
    for (std::size_t k = 0; k < keys.size(); ++k)
      all.codes[k].insert(all.codes[k].end(), part.codes[k].begin(), part.codes[k].end());
    all.overflow = all.overflow || part.overflow;
  }
  return all;
}

}  // namespace juniper::engine
