// The records behind a mark, in a dialog with pages, sorting and search.
import { dialog, failed, replaceContent } from "./page.js";

// `load({ page, sort, descending, find })` gives the HTML of a page.
export async function showRows(load) {
  const asked = { page: 1, sort: "", descending: 0, find: "" };
  try {
    const { element } = dialog(await load(asked), { wide: true, label: "Rows behind" });
    const again = async () => {
      try {
        replaceContent(element, await load(asked));
      } catch (error) {
        failed(error);
      }
    };
    element.addEventListener("click", (event) => {
      const sort = event.target.closest("[data-sort]")?.dataset.sort;
      const page = event.target.closest("[data-page]")?.dataset.page;
      if (sort) {
        asked.descending = asked.sort === sort && !asked.descending ? 1 : 0;
        asked.sort = sort;
        asked.page = 1;
      } else if (page) asked.page = Number(page);
      if (sort || page) again();
    });
    element.addEventListener("change", (event) => {
      if (event.target.matches("[data-go]")) {
        asked.page = Number(event.target.value) || 1;
        again();
      }
    });
  } catch (error) {
    failed(error);
  }
}
