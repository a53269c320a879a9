// The engine's innermost loops on their own, over one block that stays in the cache: rows a second, at the best set of
// instructions that the processor has.
#include <benchmark/benchmark.h>

#include <random>
#include <vector>

#include "base/bits.h"
#include "base/packed_table.h"
#include "base/passes.h"
#include "store/codes.h"

namespace {

using juniper::store::block_rows;
using juniper::store::Codes;

std::vector<std::uint64_t> numbers(unsigned bits) {
  std::mt19937_64 random(7);
  std::vector<std::uint64_t> made(block_rows);
  for (std::uint64_t& number : made) number = bits == 0 ? 0 : random() >> (64 - bits);
  return made;
}

std::vector<std::uint32_t> narrow_numbers(unsigned bits) {
  const auto wide = numbers(bits);
  return {wide.begin(), wide.end()};
}

void tell_rows(benchmark::State& state) {
  state.SetItemsProcessed(static_cast<std::int64_t>(state.iterations() * block_rows));
}

void unpack_32(benchmark::State& state) {
  const auto bits = static_cast<unsigned>(state.range(0));
  std::vector<std::uint64_t> words(juniper::base::words_for(block_rows, bits));
  juniper::base::pack(numbers(bits), 0, bits, words.data());
  std::vector<std::uint32_t> out(block_rows);
  for (auto _ : state) {
    juniper::base::unpack(words.data(), block_rows, bits, std::uint32_t{5}, out.data());
    benchmark::DoNotOptimize(out.data());
  }
  tell_rows(state);
}
BENCHMARK(unpack_32)->Arg(1)->Arg(4)->Arg(12)->Arg(16)->Arg(20)->Arg(25)->Arg(30);

void unpack_64(benchmark::State& state) {
  const auto bits = static_cast<unsigned>(state.range(0));
  std::vector<std::uint64_t> words(juniper::base::words_for(block_rows, bits));
  juniper::base::pack(numbers(bits), 0, bits, words.data());
  std::vector<std::uint64_t> out(block_rows);
  for (auto _ : state) {
    juniper::base::unpack(words.data(), block_rows, bits, std::uint64_t{5}, out.data());
    benchmark::DoNotOptimize(out.data());
  }
  tell_rows(state);
}
BENCHMARK(unpack_64)->Arg(16)->Arg(43);

// Blocks in each encoding: constant, packed, runs, delta, mostly one value.
void decode(benchmark::State& state) {
  std::mt19937_64 random(7);
  std::vector<std::uint64_t> codes(block_rows);
  for (std::size_t i = 0; i < codes.size(); ++i) {
    const std::uint64_t shapes[] = {3, random() % 4096, i / 700, i * 3 + random() % 3,
                                    random() % 9 == 0 ? random() % 400 : 7};
    codes[i] = shapes[state.range(0)];
  }
  const Codes encoded = Codes::encode(codes);
  std::vector<std::uint32_t> out(block_rows);
  for (auto _ : state) {
    encoded.decode_block(0, out.data());
    benchmark::DoNotOptimize(out.data());
  }
  state.SetLabel(encoded.describe());
  tell_rows(state);
}
BENCHMARK(decode)->DenseRange(0, 4);

void find_between(benchmark::State& state) {
  const auto given = narrow_numbers(10);
  std::vector<std::uint32_t> found(block_rows + 16);
  for (auto _ : state) {
    benchmark::DoNotOptimize(
        juniper::base::find_between(given, 0, static_cast<std::uint32_t>(state.range(0)), found.data()));
  }
  tell_rows(state);
}
BENCHMARK(find_between)->Arg(10)->Arg(500)->Arg(1000);

// Codes of so many bits.
void find_in(benchmark::State& state) {
  const auto bits = static_cast<unsigned>(state.range(0));
  const auto given = narrow_numbers(bits);
  juniper::base::PackedTable table(std::size_t{1} << bits, 1);
  for (std::size_t i = 0; i < table.size(); i += 3) table.add(i, 1);
  std::vector<std::uint32_t> found(block_rows + 16);
  for (auto _ : state) benchmark::DoNotOptimize(juniper::base::find_in(given, table.words().data(), found.data()));
  tell_rows(state);
}
BENCHMARK(find_in)->Arg(10)->Arg(11)->Arg(13)->Arg(17);

// Entries of two bits for codes of so many.
void look_up(benchmark::State& state) {
  const auto bits = static_cast<unsigned>(state.range(0));
  const auto given = narrow_numbers(bits);
  const juniper::base::PackedTable table(std::size_t{1} << bits, 2);
  std::vector<std::uint32_t> found(block_rows);
  for (auto _ : state) {
    table.look_up(given, 0, found.data());
    benchmark::DoNotOptimize(found.data());
  }
  tell_rows(state);
}
BENCHMARK(look_up)->Arg(10)->Arg(22);

void sum_of(benchmark::State& state) {
  const auto given = narrow_numbers(16);
  for (auto _ : state) benchmark::DoNotOptimize(juniper::base::sum_of(given));
  tell_rows(state);
}
BENCHMARK(sum_of);

}  // namespace

BENCHMARK_MAIN();
