// What of liblzma is built: decoding of LZMA2 behind the filters that docs/format.md lists, in one thread.
#pragma once
#define HAVE_STDINT_H 1
#define HAVE_STDBOOL_H 1
#define HAVE_STRING_H 1
#define HAVE_DECODERS 1
#define HAVE_DECODER_LZ 1
#define HAVE_DECODER_LZMA1 1
#define HAVE_DECODER_LZMA2 1
#define HAVE_DECODER_DELTA 1
#define HAVE_DECODER_X86 1
#define HAVE_DECODER_ARM64 1
#define HAVE_CHECK_CRC32 1
#define PACKAGE_NAME "liblzma"
#define PACKAGE_BUGREPORT ""
#define PACKAGE_URL ""
#define TUKLIB_SYMBOL_PREFIX lzma_
#define NDEBUG 1
