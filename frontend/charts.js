// What pages with drawings load besides app.js.
import Alpine from "@alpinejs/csp";
import { dashboard } from "./dashboard.js";
import { watchFolding } from "./lib/folding.js";
import { drawnOnce, pictured } from "./lib/drawn_once.js";
import { watchSize, watchSkips } from "./lib/draw.js";
import { watchPrinting } from "./lib/printing.js";
import { specification } from "./specification.js";
import { workbench } from "./workbench.js";

watchSkips();
watchSize();
watchPrinting();
watchFolding();
Alpine.data("workbench", workbench);
Alpine.data("specification", specification);
Alpine.data("dashboard", dashboard);
Alpine.data("drawnOnce", drawnOnce);
Alpine.data("pictured", pictured);
