// What the tests of drawings run in a page of their own: the page's drawing, and a measure of every text in it.
import { draw, watchSize } from "../../frontend/lib/draw.js";

/** How far two boxes may reach into one another, in pixels: letters have some room around them. */
const TOUCH = 1.5;
/** How much wider a drawing is at first, in pixels. */
const WIDER = 150;

/** @param {Element} element */
function isSeen(element) {
  const { opacity, fillOpacity, fill } = getComputedStyle(element);
  return fill !== "none" && Number(opacity) * Number(fillOpacity) > 0.1;
}

/**
 * Whether the middle line of a text stands on filled marks from its first letter to its last.
 * @param {SVGTextElement} text
 * @param {SVGGeometryElement[]} marks
 */
function isOnMarks(text, marks) {
  const { x, y, width, height } = text.getBBox();
  const matrix = text.getScreenCTM();
  return [x + 1, x + width / 2, x + width - 1].every((at) => {
    const place = new DOMPoint(at, y + height / 2).matrixTransform(matrix);
    return marks.some((mark) => mark.isPointInFill(place.matrixTransform(mark.getScreenCTM().inverse())));
  });
}

/**
 * Whether two texts that lie level reach into one another.
 * @param {DOMRect} one
 * @param {DOMRect} other
 */
const overlap = (one, other) =>
  Math.min(one.right, other.right) - Math.max(one.left, other.left) > TOUCH &&
  Math.min(one.bottom, other.bottom) - Math.max(one.top, other.top) > 2 * TOUCH;

/** @param {Element} text */
function roleOf(text) {
  return (
    text
      .closest("[class*=role-]")
      ?.getAttribute("class")
      .match(/role-([a-z-]+)/)[1] ?? ""
  );
}

/**
 * Every text that a drawing has: what it says, whether it is seen, and what is wrong with it.
 * @param {HTMLElement} host
 */
function measured(host) {
  const sheet = host.querySelector("svg")?.getBoundingClientRect();
  if (!sheet) return [];
  /** @type {SVGGeometryElement[] | undefined} */
  let marks;
  const texts = [...host.querySelectorAll("svg text")]
    .filter((text) => text.textContent)
    .map((element) => {
      const item = element.__data__;
      const role = roleOf(element);
      const found = {
        role,
        said: element.textContent,
        whole: role === "mark" ? String(item.text) : element.textContent,
        value: item?.datum?.value,
        group: [...host.querySelectorAll(".role-mark")].indexOf(element.closest(".role-mark")),
        seen: isSeen(element),
        isLevel: !item.angle,
        box: element.getBoundingClientRect(),
        faults: [],
      };
      const { left, right, top, bottom } = found.box;
      const isOut =
        left < sheet.left - 1 || right > sheet.right + 1 || top < sheet.top - 2 || bottom > sheet.bottom + 2;
      if (isOut) found.faults.push("reaches out of the drawing");
      const white = /rgb\(2[3-5]\d, 2[3-5]\d, 2[3-5]\d\)/.test(getComputedStyle(element).fill);
      if (role === "mark" && white && found.seen) {
        marks ??= [...host.querySelectorAll(".role-mark path")].filter(isSeen);
        if (!isOnMarks(element, marks)) found.faults.push("ends on the white ground");
      }
      return found;
    });
  const seen = texts.filter((text) => text.seen && text.isLevel);
  for (const [i, text] of seen.entries()) {
    for (const other of seen.slice(i + 1)) {
      if (overlap(text.box, other.box)) text.faults.push(`stands on “${other.said}”`);
    }
  }
  return texts;
}

/**
 * Draws an answer in a frame of some size and measures its texts.
 * @param {any} answer @param {number} width @param {number} height
 */
async function measure(answer, width, height) {
  const frame = document.getElementById("frame");
  frame.style.width = `${width + WIDER}px`;
  frame.style.height = `${height}px`;
  const host = document.createElement("div");
  host.className = "picture";
  host.style.cssText = "width: 100%; height: 100%; min-height: 0";
  frame.replaceChildren(host);
  await draw(host, answer);
  // A drawing that gets another size is laid out anew, and measured as it is then.
  frame.style.width = `${width}px`;
  await new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(() => setTimeout(done))));
  return measured(host).map(({ box, ...text }) => text);
}

watchSize();
window.easel = { measure, draw };
