// A page without a browser: what scripts find in one, and answers of a server that are given when a test says so.
import { JSDOM } from "jsdom";

const OF_PAGES = [
  "window", "document", "location", "history", "localStorage", "sessionStorage", "navigator", "CustomEvent", "Event",
  "MouseEvent", "KeyboardEvent", "HTMLElement", "Element", "Node", "MutationObserver", "DOMParser", "FormData",
  "addEventListener", "removeEventListener", "dispatchEvent", "requestAnimationFrame", "getComputedStyle", 
]; // prettier-ignore

/**
 * Opens a page: from now on scripts find its document, its address and its storage.
 * @param {string} html
 * @param {string} address
 */
export function openPage(html, address = "http://veduta.example/dashboards/1/") {
  const { window } = new JSDOM(html, { url: address, pretendToBeVisual: true });
  for (const name of OF_PAGES) {
    const value = name === "window" ? window : window[name];
    const isBound = typeof value === "function" && !/^[A-Z]/.test(name);
    Object.defineProperty(globalThis, name, {
      value: isBound ? value.bind(window) : value,
      configurable: true,
      writable: true,
    });
  }
  globalThis.ResizeObserver = class {
    observe() {}
    disconnect() {}
  };
  return window;
}

/** Requests that wait for their answers, in the order in which they were sent. */
export function holdRequests() {
  const sent = [];
  globalThis.fetch = (address, options = {}) =>
    new Promise((resolve) => {
      const answer = (data) =>
        resolve(new Response(JSON.stringify(data), { headers: { "Content-Type": "application/json" } }));
      sent.push({ address: String(address), body: options.body && JSON.parse(options.body), answer });
    });
  return sent;
}

/** Lets everything run that waits for something which is there already. */
export const settle = () => new Promise((resolve) => setTimeout(resolve, 0));
