/* What every page does: texts that are copied, and what is folded is open on paper. */
(() => {
  "use strict";
  const show = (part) => { for (const button of part.querySelectorAll("button[data-copies]")) button.hidden = false; };
  show(document);
  document.addEventListener("piece", (event) => show(event.target));
  document.addEventListener("click", async (event) => {
    const button = event.target.closest("button[data-copies]");
    if (!button) return;
    const text = button.parentElement.querySelector("pre");
    try {
      await navigator.clipboard.writeText(text.textContent);
      button.textContent = "copied";
    } catch {
      getSelection().selectAllChildren(text);
      button.textContent = "selected: press Ctrl-C";
    }
  });
  const opened = [];
  addEventListener("beforeprint", () => {
    for (const one of document.querySelectorAll("details:is(.part, .long, .source):not([open])")) {
      one.open = true;
      opened.push(one);
    }
  });
  addEventListener("afterprint", () => {
    for (const one of opened.splice(0)) one.open = false;
  });
})();
