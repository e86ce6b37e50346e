// Bundles scripts with esbuild and styles with Tailwind into veduta/web/static/dist. `--watch` keeps going.
import { execFileSync, spawn } from "node:child_process";
import { cpSync, mkdirSync } from "node:fs";
import * as esbuild from "esbuild";

const out = "veduta/web/static/dist";
const watch = process.argv.includes("--watch");
mkdirSync(`${out}/files`, { recursive: true });
for (const part of ["latin", "latin-ext"]) {
  const font = `archivo-${part}-standard-normal.woff2`;
  cpSync(`node_modules/@fontsource-variable/archivo/files/${font}`, `${out}/files/${font}`);
}
cpSync("node_modules/gridstack/dist/gridstack.min.css", `${out}/gridstack.css`);

const options = {
  entryPoints: ["frontend/app.js", "frontend/charts.js", "frontend/editor.js", "frontend/shaping.js"],
  bundle: true,
  minify: !watch,
  format: "iife",
  target: "es2022",
  outdir: out,
  logLevel: "warning",
};
const styles = ["-i", "frontend/app.css", "-o", `${out}/app.css`, ...(watch ? ["--watch=always"] : ["--minify"])];
const tailwind = "node_modules/.bin/tailwindcss";

if (watch) {
  spawn(tailwind, styles, { stdio: "inherit" });
  await (await esbuild.context(options)).watch();
} else {
  execFileSync(tailwind, styles, { stdio: ["ignore", "ignore", "pipe"] });
  await esbuild.build(options);
}
