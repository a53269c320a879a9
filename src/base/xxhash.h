// xxHash for many bytes at once: as its own header, but with the widest instructions of the processor where the library
// can choose them (twice as fast here as those that every x86 processor has).
#pragma once

#include <xxhash.h>
#if defined(__x86_64__)
#include <xxh_x86dispatch.h>
#endif
