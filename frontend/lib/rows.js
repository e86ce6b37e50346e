// The records behind a mark, in a dialog with pages, sorting and search.
import { fieldAt, near } from "./dom.js";
import { dialog, failed } from "./page.js";
import { updateContent } from "./update.js";

/**
 * @typedef {{ page: number, sort: string, descending: 0 | 1, find: string }} Asked
 * @param {(asked: Asked) => Promise<string>} load gives the HTML of a page
 */
export async function showRows(load) {
  /** @type {Asked} */
  const asked = { page: 1, sort: "", descending: 0, find: "" };
  try {
    const { element } = dialog(await load(asked), { wide: true, label: "Rows behind" });
    const again = async () => {
      try {
        updateContent(element, await load(asked));
      } catch (error) {
        failed(error);
      }
    };
    element.addEventListener("click", (event) => {
      const sort = near(event, "[data-sort]")?.dataset.sort;
      const page = near(event, "[data-page]")?.dataset.page;
      if (sort) {
        asked.descending = asked.sort === sort && !asked.descending ? 1 : 0;
        asked.sort = sort;
        asked.page = 1;
      } else if (page) asked.page = Number(page);
      if (sort || page) again();
    });
    element.addEventListener("change", (event) => {
      const box = fieldAt(event, "[data-go]");
      if (!box) return;
      asked.page = Number(box.value) || 1;
      again();
    });
  } catch (error) {
    failed(error);
  }
}
