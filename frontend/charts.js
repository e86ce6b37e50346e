// What pages with drawings load besides app.js.
import { dashboard } from "./dashboard.js";
import { draw, listen, showNotes } from "./lib/draw.js";
import { workbench } from "./workbench.js";

window.veduta = { draw, listen, showNotes };
document.addEventListener("alpine:init", () => {
  window.Alpine.data("workbench", workbench);
  window.Alpine.data("dashboard", dashboard);
});
