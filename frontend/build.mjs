// Bundles scripts with esbuild and styles with Tailwind into veduta/web/static/dist. `--watch` keeps going.
import { execFileSync, spawn } from "node:child_process";
import { cpSync, mkdirSync, rmSync, writeFileSync } from "node:fs";
import { basename, relative } from "node:path";
import * as esbuild from "esbuild";

const out = "veduta/web/static/dist";
const watch = process.argv.includes("--watch");
mkdirSync(`${out}/files`, { recursive: true });
for (const part of ["latin", "latin-ext"]) {
  const font = `archivo-${part}-standard-normal.woff2`;
  cpSync(`node_modules/@fontsource-variable/archivo/files/${font}`, `${out}/files/${font}`);
}

// Which parts each page's script needs, so that the page can ask for all of them at once.
/** @type {esbuild.Plugin} */
const noteParts = {
  name: "parts",
  setup(build) {
    build.onEnd(({ metafile }) => {
      const outputs = metafile?.outputs ?? {};
      const needed = (file) =>
        outputs[file].imports
          .filter(({ kind }) => kind !== "dynamic-import") // those are asked for when they are needed
          .flatMap(({ path }) => [path, ...needed(path)]);
      const scripts = Object.keys(outputs).filter((file) => outputs[file].entryPoint);
      const parts = scripts.map((file) => [
        basename(file, ".js"),
        [...new Set(needed(file))].map((path) => relative(out, path)),
      ]);
      writeFileSync(`${out}/parts.json`, JSON.stringify(Object.fromEntries(parts)));
    });
  },
};

/** @type {esbuild.BuildOptions} */
const options = {
  entryPoints: ["frontend/app.js", "frontend/charts.js", "frontend/editor.js", "frontend/shaping.js"],
  bundle: true,
  minify: !watch,
  format: "esm",
  splitting: true,
  chunkNames: "parts/[name]-[hash]",
  metafile: true,
  target: "es2022",
  outdir: out,
  logLevel: "warning",
  plugins: [noteParts],
};
const styles = ["-i", "frontend/app.css", "-o", `${out}/app.css`, ...(watch ? ["--watch=always"] : ["--minify"])];
const tailwind = "node_modules/.bin/tailwindcss";

if (watch) {
  spawn(tailwind, styles, { stdio: "inherit" });
  await (await esbuild.context(options)).watch();
} else {
  execFileSync(tailwind, styles, { stdio: ["ignore", "ignore", "pipe"] });
  rmSync(`${out}/parts`, { recursive: true, force: true });
  await esbuild.build(options);
}
