// What the page computes outside its script: the primitives of docs/format.md that browsers have not. Each function here
// hands memory to a library and back; the script knows no other way in (src/engine.ts).
#define ZSTD_STATIC_LINKING_ONLY
#include "argon2.h"
#include "blake3.h"
#include "blake3_impl.h"
#include "lzma.h"
#include "zstd.h"
#include <stdlib.h>

#define EXPORT(name) __attribute__((export_name(name)))

// What a decompressor says of bytes that are not what they must be.
#define MALFORMED 0xFFFFFFFFu

EXPORT("allocate") void *allocate(size_t bytes) { return malloc(bytes); }
EXPORT("release") void release(void *memory) { free(memory); }

// Argon2id, version 0x13, 32 bytes out; 0 where it was done.
EXPORT("argon2id")
int argon2id(const void *password, size_t password_bytes, const void *salt, size_t salt_bytes, uint32_t kibibytes,
    uint32_t passes, uint32_t lanes, void *output) {
    argon2_context context = {
        .out = output, .outlen = 32, .pwd = (void *)password, .pwdlen = password_bytes, .salt = (void *)salt,
        .saltlen = salt_bytes, .t_cost = passes, .m_cost = kibibytes, .lanes = lanes, .threads = 1,
        .version = ARGON2_VERSION_13,
    };
    return argon2_ctx(&context, Argon2_id);
}

// Argon2's written form, which is not used here and would bring a C library's printing with it.
int encode_string(char *output, size_t length, argon2_context *context, argon2_type type) { return ARGON2_ENCODING_FAIL; }
int decode_string(argon2_context *context, const char *text, argon2_type type) { return ARGON2_DECODING_FAIL; }
size_t b64len(uint32_t length) { return 0; }
size_t numlen(uint32_t number) { return 0; }

EXPORT("hasher") blake3_hasher *hasher(void) {
    blake3_hasher *made = malloc(sizeof(blake3_hasher));
    if (made) blake3_hasher_init(made);
    return made;
}
EXPORT("hasher_anew") void hasher_anew(blake3_hasher *hasher) { blake3_hasher_init(hasher); }
EXPORT("hasher_keyed") void hasher_keyed(blake3_hasher *hasher, const uint8_t *key) { blake3_hasher_init_keyed(hasher, key); }
EXPORT("hasher_take") void hasher_take(blake3_hasher *hasher, const void *bytes, size_t length) {
    blake3_hasher_update(hasher, bytes, length);
}
EXPORT("hasher_tell") void hasher_tell(const blake3_hasher *hasher, uint8_t *output) {
    blake3_hasher_finalize(hasher, output, 32);
}

// Exactly one frame of Zstandard, with its content size, a window of at most so many bytes and no dictionary.
EXPORT("zstandard")
uint32_t zstandard(void *output, size_t length, const void *stored, size_t stored_bytes, uint32_t window) {
    static ZSTD_DCtx *context;
    ZSTD_FrameHeader header;
    if (ZSTD_getFrameHeader(&header, stored, stored_bytes) != 0) return MALFORMED;
    if (header.frameType != ZSTD_frame || header.frameContentSize != length || header.windowSize > window ||
        header.dictID != 0 || ZSTD_findFrameCompressedSize(stored, stored_bytes) != stored_bytes)
        return MALFORMED;
    if (!context) context = ZSTD_createDCtx();
    if (!context) return MALFORMED;
    size_t written = ZSTD_decompressDCtx(context, output, length, stored, stored_bytes);
    return ZSTD_isError(written) || written != length ? MALFORMED : (uint32_t)written;
}

// One .xz stream; which of these are allowed is the script's to see to. So many bytes of memory, and no more.
EXPORT("lzma2")
uint32_t lzma2(void *output, size_t length, const void *stored, size_t stored_bytes, uint32_t memory) {
    uint64_t limit = memory;
    size_t from = 0, to = 0;
    lzma_ret outcome = lzma_stream_buffer_decode(&limit, 0, NULL, stored, &from, stored_bytes, output, &to, length);
    return outcome == LZMA_OK && from == stored_bytes && to == length ? (uint32_t)to : MALFORMED;
}

EXPORT("crc32") uint32_t crc32(uint32_t before, const void *bytes, size_t length) { return lzma_crc32(bytes, length, before); }

// BLAKE3's dispatch: there is one kind of machine here, whose vectors are as wide as SSE4.1's.
void blake3_compress_in_place_sse41(uint32_t cv[8], const uint8_t block[64], uint8_t block_len, uint64_t counter, uint8_t flags);
void blake3_compress_xof_sse41(const uint32_t cv[8], const uint8_t block[64], uint8_t block_len, uint64_t counter, uint8_t flags, uint8_t out[64]);
void blake3_hash_many_sse41(const uint8_t *const *inputs, size_t num_inputs, size_t blocks, const uint32_t key[8], uint64_t counter,
    bool increment_counter, uint8_t flags, uint8_t flags_start, uint8_t flags_end, uint8_t *out);

void blake3_compress_in_place(uint32_t cv[8], const uint8_t block[64], uint8_t block_len, uint64_t counter, uint8_t flags) {
    blake3_compress_in_place_sse41(cv, block, block_len, counter, flags);
}
void blake3_compress_xof(const uint32_t cv[8], const uint8_t block[64], uint8_t block_len, uint64_t counter, uint8_t flags, uint8_t out[64]) {
    blake3_compress_xof_sse41(cv, block, block_len, counter, flags, out);
}
void blake3_xof_many(const uint32_t cv[8], const uint8_t block[64], uint8_t block_len, uint64_t counter, uint8_t flags, uint8_t out[64], size_t outblocks) {
    for (size_t i = 0; i < outblocks; i++) blake3_compress_xof(cv, block, block_len, counter + i, flags, out + 64 * i);
}
void blake3_hash_many(const uint8_t *const *inputs, size_t num_inputs, size_t blocks, const uint32_t key[8], uint64_t counter,
    bool increment_counter, uint8_t flags, uint8_t flags_start, uint8_t flags_end, uint8_t *out) {
    blake3_hash_many_sse41(inputs, num_inputs, blocks, key, counter, increment_counter, flags, flags_start, flags_end, out);
}
size_t blake3_simd_degree(void) { return 4; }
