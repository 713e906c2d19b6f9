/* All places are found in as texts; those beyond the first are made rows when they are found. */
(() => {
  "use strict";
  const plain = document.createElement("textarea");
  const read = (text) => {
    if (text.includes("&")) {
      plain.innerHTML = text;
      text = plain.value;
    }
    return text.toLowerCase();
  };

  const start = (box) => {
    const form = box.querySelector("form");
    const body = box.querySelector("tbody");
    const output = box.querySelector("output");
    const most = Number(box.dataset.most);
    const folded = box.querySelector("noscript");
    const all = [...body.rows].map((row) => ({ text: row.dataset.s.toLowerCase(), row }));
    if (folded)
      for (const line of folded.textContent.split("\n"))
        if (line.startsWith("<tr ")) all.push({ text: null, line });
    const text = (one) => (one.text ??= read(/data-s="([^"]*)"/.exec(one.line)[1]));
    const row = (one) => {
      if (!one.row) {
        const made = document.createElement("tbody");
        made.innerHTML = one.line;
        one.row = made.rows[0];
      }
      return one.row;
    };
    const find = () => {
      const wanted = form.find.value.trim().toLowerCase();
      const found = wanted ? all.filter((one) => text(one).includes(wanted)) : all;
      body.replaceChildren(...found.slice(0, most).map(row));
      output.textContent = wanted
        ? `${found.length} of ${all.length} places${found.length > most ? `, the first ${most} shown` : ""}`
        : `${all.length} places${all.length > most ? `, the first ${most} shown` : ""}`;
      box.dispatchEvent(new Event("drawn", { bubbles: true }));
    };
    form.hidden = false;
    form.addEventListener("submit", (event) => event.preventDefault());
    form.addEventListener("input", find);
    form.addEventListener("reset", () => setTimeout(find));
    find();
  };

  for (const box of document.querySelectorAll("[data-places]")) start(box);
})();
