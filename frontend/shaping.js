// What the shaping screen and the exploring table load.
import Alpine from "@alpinejs/csp";
import { shaping } from "./shaping_screen.js";

Alpine.data("shaping", shaping);
