// Whatever scrolls can be scrolled with the keyboard: a stop for Tab where nothing inside is one.
const SCROLLS =
  ".scroll-x, .picture, .overflow-auto, .overflow-x-auto, .overflow-y-auto, .grid-scroll, .prose-text pre, .prose-text table";
const STOPS = "a[href], button, input, select, textarea, summary, [tabindex]:not([data-scrolls])";

/** @param {HTMLElement} element */
function stop(element) {
  const scrolls = element.scrollWidth > element.clientWidth + 1 || element.scrollHeight > element.clientHeight + 1;
  const own = element.hasAttribute("data-scrolls");
  if (scrolls && !own && !element.hasAttribute("tabindex") && !element.querySelector(STOPS)) {
    element.tabIndex = 0;
    element.dataset.scrolls = "";
  } else if (own && !scrolls) {
    element.removeAttribute("tabindex");
    element.removeAttribute("data-scrolls");
  }
}

/** Look after all that scrolls, now and whenever sizes or what is shown change. */
export function watchScrolling() {
  let waiting = 0;
  const look = () => {
    cancelAnimationFrame(waiting);
    waiting = requestAnimationFrame(() => {
      for (const element of document.querySelectorAll(SCROLLS)) stop(/** @type {HTMLElement} */ (element));
    });
  };
  new MutationObserver(look).observe(document.body, {
    childList: true,
    subtree: true,
    attributeFilter: ["hidden", "open"],
  });
  addEventListener("resize", look);
  look();
}
