// Builds the page: C sources to one WebAssembly module, TypeScript to one script, and all of it to one HTML file, which holds
// nothing that would have to be fetched. The same sources give the same bytes. Called by ./build.
import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { build } from 'esbuild';
import { deflateRaw } from 'pako';

const here = dirname(fileURLToPath(import.meta.url));
const output = process.argv[2];

/** Small enough to go beside volumes in a message. */
const MAX_PAGE_BYTES = 350_000;

/** Folders of the C sources that the program's own crates bring. */
function crates() {
  const told = execFileSync('cargo', ['metadata', '--format-version', '1', '--locked', '--filter-platform', 'x86_64-unknown-linux-gnu'], { cwd: here, maxBuffer: 1 << 28 });
  const packages = JSON.parse(told).packages;
  return name => dirname(packages.find(one => one.name === name).manifest_path);
}

function engine(folder) {
  const of = crates();
  const [blake3, zstd, xz] = [join(of('blake3'), 'c'), join(of('zstd-sys'), 'zstd/lib'), join(of('liblzma-sys'), 'xz/src')];
  const argon2 = join(here, 'node_modules/argon2/argon2');
  const under = (folder, names) => names.split(' ').map(name => join(folder, name + '.c'));
  const groups = [
    [['engine'], [join(here, 'engine/engine.c')], []],
    [['argon2'], under(join(argon2, 'src'), 'argon2 core ref blake2/blake2b'), ['-DARGON2_NO_THREADS']],
    [['blake3'], under(blake3, 'blake3 blake3_portable blake3_sse41'), []],
    [['zstandard'], [
      ...under(join(zstd, 'common'), 'entropy_common error_private fse_decompress zstd_common xxhash'),
      ...under(join(zstd, 'decompress'), 'huf_decompress zstd_ddict zstd_decompress zstd_decompress_block'),
    ], ['-DZSTD_STRIP_ERROR_STRINGS', '-DZSTD_LEGACY_SUPPORT=0']],
    [['lzma2'], [
      ...under(join(xz, 'liblzma/common'), 'block_decoder block_header_decoder block_util common filter_common filter_decoder ' +
        'filter_flags_decoder index_hash stream_buffer_decoder stream_decoder stream_flags_common stream_flags_decoder vli_decoder vli_size'),
      ...under(join(xz, 'liblzma/lz'), 'lz_decoder'), ...under(join(xz, 'liblzma/lzma'), 'lzma_decoder lzma2_decoder'),
      ...under(join(xz, 'liblzma/check'), 'check crc32_fast'), ...under(join(xz, 'liblzma/delta'), 'delta_common delta_decoder'),
      ...under(join(xz, 'liblzma/simple'), 'simple_coder simple_decoder x86 arm64'),
    ], ['-DHAVE_CONFIG_H']],
  ];
  const includes = [join(here, 'engine/include'), join(argon2, 'include'), join(argon2, 'src'), blake3, zstd, join(zstd, 'common'),
    ...['api', 'lzma', 'lz', 'check', 'simple', 'delta', 'common', 'rangecoder'].map(name => join(xz, 'liblzma', name)), join(xz, 'common')];
  // BLAKE3 knows no vectors of WebAssembly: those of four lanes are the same as NEON's (engine/engine.c).
  const flags = ['--target=wasm32-wasi', '-DBLAKE3_USE_NEON=1', '-O3', '-msimd128', '-mbulk-memory', '-DNDEBUG', '-std=gnu11', '-w', '-ffunction-sections',
    '-fdata-sections', ...includes.map(include => '-I' + include)];
  const objects = groups.flatMap(([name, sources, more]) => sources.map((source, place) => {
    const object = join(folder, `${name}-${place}.o`);
    execFileSync('clang', [...flags, ...more, '-c', source, '-o', object], { stdio: 'inherit' });
    return object;
  }));
  const module = join(folder, 'engine.wasm');
  execFileSync('clang', ['--target=wasm32-wasi', '-nostartfiles', '-Wl,--no-entry', '-Wl,--gc-sections', '-Wl,--strip-all',
    '-Wl,-z,stack-size=1048576', ...objects, '-o', module], { stdio: 'inherit' });
  const bytes = readFileSync(module);
  const imports = WebAssembly.Module.imports(new WebAssembly.Module(bytes));
  if (imports.length) throw new Error('The module asks for ' + imports.map(one => `${one.module}.${one.name}`).join(', ') + '.');
  return bytes;
}

async function script(module) {
  const built = await build({
    entryPoints: [join(here, 'src/page.ts')], bundle: true, minify: true, write: false, format: 'iife', target: 'es2022', charset: 'utf8',
    legalComments: 'none', define: { ENGINE_BASE64: JSON.stringify(Buffer.from(deflateRaw(module, { level: 9 })).toString('base64')) },
  });
  return built.outputFiles[0].text.replaceAll('</script', '<\\/script').trim();
}

const folder = mkdtempSync(join(tmpdir(), 'page-'));
try {
  const text = await script(engine(folder));
  const hash = createHash('sha256').update(text).digest('base64');
  const policy = `default-src 'none'; script-src 'sha256-${hash}' 'wasm-unsafe-eval'; worker-src blob:; style-src 'unsafe-inline'; ` +
    "img-src blob: data:; frame-src blob:; connect-src 'none'; base-uri 'none'; form-action 'none'";
  const parts = {
    POLICY: policy, SCRIPT: text, STYLE: readFileSync(join(here, 'src/page.css'), 'utf8').trim(),
    LICENCES: readFileSync(join(here, 'licences.txt'), 'utf8').replaceAll('&', '&amp;').replaceAll('<', '&lt;').trim(),
  };
  const page = readFileSync(join(here, 'src/page.html'), 'utf8').replace(/\{\{([A-Z]+)\}\}/g, (_, name) => parts[name]);
  writeFileSync(output, page);
  if (Buffer.byteLength(page) > MAX_PAGE_BYTES) throw new Error(`The page has ${Buffer.byteLength(page)} bytes, over ${MAX_PAGE_BYTES}.`);
  console.log(`${output}: ${Buffer.byteLength(page)} bytes`);
} finally {
  rmSync(folder, { recursive: true });
}
