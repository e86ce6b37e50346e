// Draws what the server answered: a Vega-Lite specification with its rows, or HTML.
import * as vega from "vega";
import { expressionInterpreter } from "vega-interpreter";
import { compile } from "vega-lite";

let themes;

function readThemes() {
  themes ??= JSON.parse(document.getElementById("chart-themes").textContent);
  return themes;
}

export function isDark() {
  const set = document.documentElement.dataset.theme;
  return set ? set === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
}

function themed(spec) {
  if (!isDark()) return spec;
  let text = JSON.stringify(spec);
  for (const [light, dark] of Object.entries(readThemes().dark_colours)) text = text.replaceAll(light, dark);
  return JSON.parse(text);
}

let tip;
function showTip(event, item) {
  const lines = item?.datum?.tip;
  if (!lines) return hideTip();
  tip ??= document.body.appendChild(Object.assign(document.createElement("div"), { className: "tip" }));
  const table = document.createElement("table");
  for (const [name, value] of lines) {
    const row = table.insertRow();
    row.insertCell().textContent = name;
    row.insertCell().textContent = value;
  }
  tip.replaceChildren(table);
  tip.hidden = false;
  const x = Math.min(event.clientX + 14, innerWidth - tip.offsetWidth - 8);
  const y = event.clientY + 16 + tip.offsetHeight > innerHeight ? event.clientY - tip.offsetHeight - 10 : event.clientY + 16;
  tip.style.left = `${Math.max(4, x)}px`;
  tip.style.top = `${Math.max(4, y)}px`;
}
function hideTip() {
  if (tip) tip.hidden = true;
}

function itemOf(element) {
  return element?.__data__?.datum ? element.__data__ : null;
}

function marksOf(host) {
  return [...host.querySelectorAll("[role=graphics-symbol]")].filter((element) => itemOf(element)?.datum.point);
}

// One tab stop for each drawing; arrow keys go from mark to mark.
function makeReachable(host) {
  const marks = marksOf(host);
  marks.forEach((mark, i) => {
    mark.setAttribute("tabindex", i ? "-1" : "0");
    mark.classList.add("reachable");
  });
}

export async function draw(host, data) {
  if (!data.spec) {
    host._view?.finalize();
    host._view = host._key = null;
    host.innerHTML = data.html;
    host.classList.remove("drawn");
    return;
  }
  const key = JSON.stringify(data.spec) + isDark();
  if (host._view && host._key === key) {
    host._view.data("rows", data.rows);
    await host._view.runAsync();
    makeReachable(host);
    return;
  }
  host._view?.finalize();
  host.replaceChildren();
  host.classList.add("drawn");
  const config = readThemes()[isDark() ? "dark" : "light"];
  const compiled = compile(themed(data.spec), { config, logger: quiet }).spec;
  const view = new vega.View(vega.parse(compiled, null, { ast: true }), {
    renderer: "svg",
    expr: expressionInterpreter,
    container: host,
    hover: false,
    logger: quiet,
    tooltip: (handler, event, item, value) => (value ? showTip(event, item) : hideTip()),
  });
  host._key = key;
  host._view = view;
  view.data("rows", data.rows);
  await view.runAsync();
  host.querySelector("svg")?.setAttribute("aria-label", data.sentence);
  makeReachable(host);
  if (!host._watched) watch(host);
}

const quiet = {
  level() { return this; }, warn() { return this; }, info() { return this; }, debug() { return this; },
  error(...parts) { console.error(...parts); return this; },
};

function watch(host) {
  host._watched = new ResizeObserver(() => {
    const view = host._view;
    if (!view || !host.clientWidth) return;
    const size = `${host.clientWidth} ${host.clientHeight}`;
    if (host._size && host._size !== size) {
      view.signal("width", view.signal("width"));
      window.dispatchEvent(new Event("resize"));
    }
    host._size = size;
  });
  host._watched.observe(host);
}

// Calls `chosen(points, { add })` when marks are clicked, dragged over, or picked with the keyboard.
export function listen(host, chosen) {
  let start = null;
  let brush = null;
  const pointOf = (target) => itemOf(target)?.datum.point ?? JSON.parse(target.closest?.("[data-point]")?.dataset.point ?? "null");
  host.addEventListener("pointerdown", (event) => {
    if (event.button === 0 && host._view && event.pointerType !== "touch") start = { x: event.clientX, y: event.clientY };
  });
  host.addEventListener("pointermove", (event) => {
    if (!start) return;
    if (!brush && Math.hypot(event.clientX - start.x, event.clientY - start.y) < 6) return;
    hideTip();
    brush ??= host.appendChild(Object.assign(document.createElement("div"), { className: "brush" }));
    const box = host.getBoundingClientRect();
    const left = Math.min(start.x, event.clientX) - box.left + host.scrollLeft;
    const top = Math.min(start.y, event.clientY) - box.top + host.scrollTop;
    Object.assign(brush.style, {
      left: `${left}px`, top: `${top}px`,
      width: `${Math.abs(event.clientX - start.x)}px`, height: `${Math.abs(event.clientY - start.y)}px`,
    });
    event.preventDefault();
  });
  const end = (event) => {
    if (!start) return;
    start = null;
    if (!brush) return;
    const area = brush.getBoundingClientRect();
    brush.remove();
    brush = null;
    host._dragged = true;
    setTimeout(() => { host._dragged = false; });
    const lying = host._lying;
    const points = new Map();
    for (const mark of marksOf(host)) {
      const box = mark.getBoundingClientRect();
      const [x, y] = [box.left + box.width / 2, box.top + box.height / 2];
      const inside = lying ? y >= area.top && y <= area.bottom : x >= area.left && x <= area.right;
      const { point } = itemOf(mark).datum;
      // A range along the axis takes everything in it, whatever the series.
      if (inside) points.set(JSON.stringify(point[0]), point.slice(0, 1));
    }
    if (points.size) chosen([...points.values()], { add: event.shiftKey });
  };
  window.addEventListener("pointerup", end);
  host.addEventListener("click", (event) => {
    if (host._dragged) return;
    const point = pointOf(event.target);
    if (point) chosen([point], { add: event.shiftKey || event.ctrlKey || event.metaKey });
  });
  host.addEventListener("keydown", (event) => {
    const mark = event.target.closest(".reachable, [data-point]");
    if (!mark) return;
    if (event.key === "Enter" || event.key === " ") {
      const point = pointOf(mark);
      if (!point) return;
      event.preventDefault();
      chosen([point], { add: event.shiftKey });
    } else if (["ArrowRight", "ArrowDown", "ArrowLeft", "ArrowUp"].includes(event.key) && !mark.dataset?.point) {
      event.preventDefault();
      const marks = marksOf(host);
      const next = marks[marks.indexOf(mark) + (["ArrowRight", "ArrowDown"].includes(event.key) ? 1 : -1)];
      if (next) {
        mark.setAttribute("tabindex", "-1");
        next.setAttribute("tabindex", "0");
        next.focus();
      }
    }
  });
  host.addEventListener("pointerleave", hideTip);
}

export function showNotes(element, notes) {
  element.textContent = notes.join(" ");
}
