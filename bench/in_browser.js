// Draws answers on an empty page, and says how long it took until they were painted.
import { clear, draw } from "../frontend/lib/draw.js";

const painted = () => new Promise((done) => requestAnimationFrame(() => setTimeout(done)));

/** @param {any} answer */
window.timed = async (answer) => {
  const host = /** @type {HTMLElement} */ (document.getElementById("host"));
  clear(host);
  host.replaceChildren();
  await painted();
  const start = performance.now();
  await draw(host, answer);
  await painted();
  return performance.now() - start;
};
