// Specifications made ready to be drawn: in the colours of the theme, compiled, and kept for who comes back to them.
import * as vega from "vega";
import * as vegaLite from "vega-lite";
import { sent } from "./dom.js";
import { madeZoomable } from "./maps.js";
import { limitLegends } from "./series.js";

/** @type {{ dark_colours: Record<string, string>, light: vegaLite.Config, dark: vegaLite.Config } | undefined} */
let themes;

function readThemes() {
  themes ??= sent("chart-themes");
  return /** @type {NonNullable<typeof themes>} */ (themes);
}

/** @param {Element} [at] What stands on a ground of its own is drawn as that asks for. */
export function isDark(at) {
  const ground = at?.closest(".in-light, .in-dark");
  if (ground) return ground.matches(".in-dark");
  const set = document.documentElement.dataset.theme;
  return set ? set === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
}

/**
 * A specification in the colours of the theme; `own` are the dark counterparts of colours that people have chosen.
 * @param {any} spec
 * @param {Record<string, string>} own
 * @param {boolean} dark
 */
export function themed(spec, own, dark) {
  if (!dark) return spec;
  const counterparts = { ...readThemes().dark_colours, ...own };
  return JSON.parse(JSON.stringify(spec).replace(/#[0-9A-Fa-f]{6}\b/g, (colour) => counterparts[colour] ?? colour));
}

/** @type {vega.LoggerInterface} */
export const quiet = {
  level() {
    return /** @type {any} */ (this);
  },
  warn() {
    return this;
  },
  info() {
    return this;
  },
  debug() {
    return this;
  },
  error(...parts) {
    console.error(...parts);
    return this;
  },
};

/**
 * What was made ready last: who clicks to and fro comes back to the same drawings.
 * @typedef {{ runtime: any, isMap: boolean, followsRoom: boolean, signals: string[], names: string[] }} Prepared
 * @type {Map<string, Prepared>}
 */
const madeReady = new Map();
const MOST_READY = 40;

/**
 * A specification ready to be drawn. Raises what the drawing library says is wrong.
 * @param {any} spec
 * @param {Record<string, string>} [own] Dark counterparts of colours that people have chosen.
 * @returns {Prepared}
 */
export function prepared(spec, own = {}, dark = isDark()) {
  const key = JSON.stringify([spec, own, dark]);
  const ready = madeReady.get(key) ?? compiled(spec, own, dark);
  madeReady.delete(key); // the last one used stands last
  madeReady.set(key, ready);
  if (madeReady.size > MOST_READY) madeReady.delete(/** @type {string} */ (madeReady.keys().next().value));
  return ready;
}

/**
 * @param {any} spec
 * @param {Record<string, string>} own
 * @param {boolean} dark
 * @returns {Prepared}
 */
function compiled(spec, own, dark) {
  const config = readThemes()[dark ? "dark" : "light"];
  const full = vegaLite.compile(themed(spec, own, dark), { config, logger: quiet }).spec;
  if (!spec.concat) limitLegends(full);
  const isMap = !spec.concat && madeZoomable(full);
  return {
    runtime: vega.parse(full, undefined, { ast: true }),
    isMap,
    followsRoom: Boolean(full.legends) || (full.axes ?? []).some(({ labelAngle }) => typeof labelAngle === "object"),
    signals: (full.signals ?? []).map((signal) => signal.name),
    names: (full.data ?? []).map((data) => data.name),
  };
}
