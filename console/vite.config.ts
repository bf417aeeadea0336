import tailwindcss from '@tailwindcss/vite';
import react from '@vitejs/plugin-react';
import { readFile, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { brotliCompress, gzip } from 'node:zlib';
import { defineConfig, type Plugin } from 'vite';

/** Writes each script, style sheet and page compressed beside itself: the service sends what the browser takes. */
function compressed(): Plugin {
  return {
    name: 'compressed',
    async writeBundle({ dir = 'dist' }, bundle) {
      for (const name of Object.keys(bundle).filter((n) => /\.(js|css|html|svg)$/.test(n))) {
        const file = join(dir, name);
        const data = await readFile(file);
        await writeFile(`${file}.br`, await promisify(brotliCompress)(data));
        await writeFile(`${file}.gz`, await promisify(gzip)(data, { level: 9 }));
      }
    },
  };
}

export default defineConfig({
  plugins: [react(), tailwindcss(), compressed()],
  build: { assetsInlineLimit: 0, emptyOutDir: false },
  server: { proxy: { '/api': 'http://127.0.0.1:8470' } },
});
