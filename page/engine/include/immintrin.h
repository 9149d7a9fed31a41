// The few SSE4.1 intrinsics that BLAKE3's C source uses, by WebAssembly's fixed-width SIMD: both work on 128 bits, and each
// of these has an exact counterpart there.
#pragma once
#include <wasm_simd128.h>

typedef v128_t __m128i;
typedef v128_t __m128;

#define _MM_HINT_T0 0
#define _mm_prefetch(address, hint) ((void)(address))
#define _mm_loadu_si128(address) wasm_v128_load(address)
#define _mm_storeu_si128(address, value) wasm_v128_store(address, value)
#define _mm_add_epi32(a, b) wasm_i32x4_add(a, b)
#define _mm_sub_epi32(a, b) wasm_i32x4_sub(a, b)
#define _mm_xor_si128(a, b) wasm_v128_xor(a, b)
#define _mm_or_si128(a, b) wasm_v128_or(a, b)
#define _mm_and_si128(a, b) wasm_v128_and(a, b)
#define _mm_cmpgt_epi32(a, b) wasm_i32x4_gt(a, b)
#define _mm_set1_epi32(x) wasm_i32x4_splat((int32_t)(x))
#define _mm_setr_epi32(a, b, c, d) wasm_i32x4_make((int32_t)(a), (int32_t)(b), (int32_t)(c), (int32_t)(d))
#define _mm_set_epi32(d, c, b, a) wasm_i32x4_make((int32_t)(a), (int32_t)(b), (int32_t)(c), (int32_t)(d))
#define _mm_set_epi8(p, o, n, m, l, k, j, i, h, g, f, e, d, c, b, a) \
    wasm_i8x16_make(a, b, c, d, e, f, g, h, i, j, k, l, m, n, o, p)
#define _mm_shuffle_epi8(a, b) wasm_i8x16_swizzle(a, b)
#define _mm_slli_epi32(a, count) wasm_i32x4_shl(a, count)
#define _mm_srli_epi32(a, count) wasm_u32x4_shr(a, count)
#define _mm_castps_si128(a) (a)
#define _mm_castsi128_ps(a) (a)
#define _MM_SHUFFLE(z, y, x, w) (((z) << 6) | ((y) << 4) | ((x) << 2) | (w))
#define _mm_shuffle_epi32(a, order) \
    wasm_i32x4_shuffle(a, a, (order) & 3, ((order) >> 2) & 3, ((order) >> 4) & 3, ((order) >> 6) & 3)
#define _mm_shuffle_ps(a, b, order) \
    wasm_i32x4_shuffle(a, b, (order) & 3, ((order) >> 2) & 3, 4 + (((order) >> 4) & 3), 4 + (((order) >> 6) & 3))
#define _mm_unpacklo_epi32(a, b) wasm_i32x4_shuffle(a, b, 0, 4, 1, 5)
#define _mm_unpackhi_epi32(a, b) wasm_i32x4_shuffle(a, b, 2, 6, 3, 7)
#define _mm_unpacklo_epi64(a, b) wasm_i64x2_shuffle(a, b, 0, 2)
#define _mm_unpackhi_epi64(a, b) wasm_i64x2_shuffle(a, b, 1, 3)
// Lane n of sixteen bits comes from b where bit n is set.
#define UNDER_SEAL_BLEND_LANE(mask, lane) ((mask) & (1 << (lane)) ? 8 + (lane) : (lane))
#define _mm_blend_epi16(a, b, mask) \
    wasm_i16x8_shuffle(a, b, UNDER_SEAL_BLEND_LANE(mask, 0), UNDER_SEAL_BLEND_LANE(mask, 1), \
        UNDER_SEAL_BLEND_LANE(mask, 2), UNDER_SEAL_BLEND_LANE(mask, 3), UNDER_SEAL_BLEND_LANE(mask, 4), \
        UNDER_SEAL_BLEND_LANE(mask, 5), UNDER_SEAL_BLEND_LANE(mask, 6), UNDER_SEAL_BLEND_LANE(mask, 7))
