#include "base/instructions.h"

#if HWY_ARCH_X86
#include <cpuid.h>
#endif

namespace juniper::base {

#if HWY_ARCH_X86
namespace {

// Asked of the processor, as Clang 14 does not know the set by name.
bool has_f16c() {
  unsigned a = 0;
  unsigned b = 0;
  unsigned c = 0;
  unsigned d = 0;
  return __get_cpuid(1, &a, &b, &c, &d) != 0 && (c & bit_F16C) != 0;
}

}  // namespace
#endif

std::int64_t instructions_here() {
#if HWY_ARCH_X86
  // What each of Highway's targets is compiled for (its ops/set_macros-inl.h), and the one before it.
  const bool ssse3 = __builtin_cpu_supports("ssse3");
  const bool sse4 = ssse3 && __builtin_cpu_supports("sse4.1") && __builtin_cpu_supports("sse4.2") &&
                    __builtin_cpu_supports("pclmul") && __builtin_cpu_supports("aes");
  const bool avx2 = sse4 && __builtin_cpu_supports("avx2") && __builtin_cpu_supports("bmi") &&
                    __builtin_cpu_supports("bmi2") && __builtin_cpu_supports("fma") && has_f16c();
  const bool avx3 = avx2 && __builtin_cpu_supports("avx512f") && __builtin_cpu_supports("avx512vl") &&
                    __builtin_cpu_supports("avx512dq") && __builtin_cpu_supports("avx512bw");
  return (ssse3 ? HWY_SSSE3 : 0) | (sse4 ? HWY_SSE4 : 0) | (avx2 ? HWY_AVX2 : 0) | (avx3 ? HWY_AVX3 : 0) |
         HWY_STATIC_TARGET;
#else
  return HWY_STATIC_TARGET;
#endif
}

hwy::ChosenTarget& chosen_instructions() {
  static hwy::ChosenTarget chosen;
  if (!chosen.IsInitialized()) chosen.Update(instructions_here());
  return chosen;
}

}  // namespace juniper::base
