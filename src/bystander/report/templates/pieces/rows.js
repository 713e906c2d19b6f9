/* A list of rows that is found, filtered and sorted in; what is not seen is not in the page. */
(() => {
  "use strict";
  const CHUNK = 60;

  /* A row that is folded away in a text becomes an element when it is drawn. */
  const element = (row) => {
    if (row.element) return row.element;
    row.element = row.holder;
    if (row.holder.tagName === "NOSCRIPT")
      row.element = new DOMParser().parseFromString(row.holder.textContent, "text/html").body.firstElementChild;
    return row.element;
  };

  const KEYS = { worst: [0, 1], study: [1, 1], most: [2, -1], least: [2, 1], load: [3, -1], seconds: [4, -1], name: [5, 1] };

  const start = (box) => {
    const form = box.querySelector("form");
    const list = box.querySelector(".list");
    const more = box.querySelector(".more");
    const output = box.querySelector("output");
    const all = [...list.children].map((holder, at) => ({
      holder, at, id: holder.dataset.i, fate: holder.dataset.f || "none",
      words: holder.dataset.s ? holder.dataset.s.split(" ") : [],
    }));
    const byId = new Map(all.map((row) => [row.id, row]));
    const asWritten = new Map();
    let shown = all;
    let drawn = 0;

    const field = (name) => (form[name] ? form[name].value : "");
    const measures = (row) => (row.measures ??= new Map(JSON.parse(row.holder.dataset.m).map((one) => [String(one[0]), one])));
    const keys = (row) => (row.keys ??= JSON.parse(row.holder.dataset.k));
    const text = (row) => (row.text ??= [
      row.holder.dataset.n, ...measures(row).get("0").slice(1), row.fate, ...row.words.map((word) => word.replaceAll("-", " ")),
    ].join(" ").toLowerCase());

    /* How many rows have each verdict by the measure that was chosen. */
    let counted = "0";
    const recount = (measure) => {
      const counts = new Map();
      for (const row of all) {
        const verdict = (measures(row).get(measure || "0") || [])[1];
        counts.set(verdict, (counts.get(verdict) || 0) + 1);
      }
      for (const option of form.verdict.options) {
        if (!option.value) continue;
        const count = counts.get(option.value) || 0;
        option.textContent = `${option.dataset.label} (${count})`;
        option.hidden = count === 0 && !option.selected;
      }
      counted = measure;
    };

    const main = (measure) => measure === "0" || measure === "";

    /* The words of a row by the measure that was chosen; as it was written for the study's own. */
    const say = (row, measure) => {
      if (main(measure) && !asWritten.has(row)) return;
      const told = element(row).querySelector(".told");
      if (main(measure)) {
        told.replaceChildren(...asWritten.get(row));
        asWritten.delete(row);
        return;
      }
      if (!asWritten.has(row)) asWritten.set(row, [...told.childNodes]);
      const [, verdict, change] = measures(row).get(measure);
      const word = document.createElement("b");
      word.className = "verdict";
      word.textContent = verdict;
      told.replaceChildren(word, ` ${change}`);
    };

    const draw = (upto) => {
      const measure = field("measure");
      const part = shown.slice(drawn, upto);
      for (const row of part) say(row, measure);
      list.append(...part.map(element));
      for (const row of part) row.element.dispatchEvent(new Event("piece", { bubbles: true }));
      drawn = Math.min(shown.length, upto);
      const left = shown.length - drawn;
      more.hidden = left === 0;
      more.textContent = `${Math.min(CHUNK, left)} more of ${left}`;
    };

    const update = () => {
      const words = field("find").trim().toLowerCase().split(/\s+/).filter(Boolean);
      const [verdict, measure, word, fate, order] = ["verdict", "measure", "word", "fate", "order"].map(field);
      if (counted !== measure) recount(measure);
      shown = all.filter((row) =>
        (!word || row.words.includes(word))
        && (!fate || row.fate === fate)
        && words.every((one) => text(row).includes(one))
        && ((!verdict && main(measure)) || measures(row).has(measure || "0"))
        && (!verdict || measures(row).get(measure || "0")[1] === verdict));
      if (KEYS[order] && order !== form.order.options[0].value) {
        const [key, sign] = KEYS[order];
        const value = (row) => (keys(row)[key] === null ? Infinity : sign * keys(row)[key]);
        shown.sort((a, b) => value(a) - value(b) || a.at - b.at);
      }
      list.classList.toggle("other-measure", !main(measure));
      list.replaceChildren();
      drawn = 0;
      draw(CHUNK);
      output.textContent = `${shown.length} of ${all.length} rows`;
    };

    /* The state of the page is in its address: #row-..., then what differs from the beginning. */
    const fields = [...form.elements].filter((one) => one.name);
    const first = (one) => (one.tagName === "SELECT" ? one.options[0].value : "");
    const address = () => {
      const state = new URLSearchParams();
      for (const one of fields) if (one.value !== first(one)) state.set(one.name, one.value);
      const row = list.querySelector(":scope > details.row[open]");
      const parts = [row ? row.id : "", state.toString()].filter(Boolean);
      try { history.replaceState(null, "", `#${parts.join("&")}`); } catch { /* a page within a page has no address */ }
    };
    const restore = () => {
      const state = new URLSearchParams(location.hash.slice(1));
      for (const one of fields) {
        const value = state.get(one.name) ?? first(one);
        if (one.tagName !== "SELECT" || [...one.options].some((option) => option.value === value)) one.value = value;
      }
      update();
      const row = byId.get([...state.keys()].find((key) => byId.has(key)));
      if (!row) return;
      if (!shown.includes(row)) { for (const one of fields) one.value = first(one); update(); }
      draw(Math.max(drawn, shown.indexOf(row) + 1));
      row.element.open = true;
      row.element.scrollIntoView();
    };

    list.addEventListener("toggle", (event) => {
      if (!event.target.matches("details.row")) return;
      address();
    }, true);
    list.addEventListener("keydown", (event) => {
      const summary = event.target.closest("summary.line");
      const step = { ArrowDown: "nextElementSibling", ArrowUp: "previousElementSibling" }[event.key];
      if (!summary || !step) return;
      const other = summary.parentElement[step];
      if (!other) return;
      event.preventDefault();
      other.querySelector("summary").focus();
    });
    form.addEventListener("input", () => { update(); address(); });
    form.addEventListener("submit", (event) => event.preventDefault());
    form.addEventListener("reset", () => setTimeout(() => { update(); address(); }));
    more.addEventListener("click", () => draw(drawn + CHUNK));
    new IntersectionObserver((seen) => { if (seen[0].isIntersecting && !more.hidden) draw(drawn + CHUNK); }, { rootMargin: "400px" }).observe(more);
    addEventListener("hashchange", restore);
    addEventListener("beforeprint", () => draw(Math.max(drawn, 1000)));
    form.hidden = all.length < 2;
    restore();
  };
  for (const box of document.querySelectorAll("[data-rows]")) start(box);
})();
