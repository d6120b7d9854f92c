// Kernels in versions for wider vector units, chosen when the program starts.
#pragma once

// Before a plain function of loops over arrays: it is compiled for AVX2 as well as for every x86-64 processor. What it
// calls must be inlined into it (WAVECREST_INLINE). Elsewhere it is compiled once.
#if defined(__x86_64__) && defined(__gnu_linux__) && !defined(__SANITIZE_ADDRESS__)
#define WAVECREST_WIDE __attribute__((target_clones("avx2", "default")))
#else
#define WAVECREST_WIDE
#endif
#define WAVECREST_INLINE [[gnu::always_inline]] inline
