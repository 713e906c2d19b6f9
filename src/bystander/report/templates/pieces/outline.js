/* Narrowing to a place and back: the address says under which, so that the way back is the browser's own. */
(() => {
  "use strict";
  const start = (view) => {
    const number = view.dataset.inspected;
    const boxes = [...view.querySelectorAll("[data-outline]")];
    const branches = boxes.map((box) => [...box.querySelectorAll(".branch")]);
    const first = branches[0] || [];
    const crumbs = view.querySelector(".crumbs");
    const link = (text, to) => {
      const made = document.createElement("a");
      made.href = to;
      made.textContent = text;
      return made;
    };
    const of = (at) => `#under=${number}.${at}`;
    for (const mine of branches)
      for (const branch of mine) {
        const name = branch.querySelector(".name");
        name.replaceChildren(link(name.textContent, of(branch.dataset.at)));
      }
    const byName = new Map();
    for (const branch of first) {
      const name = branch.dataset.name;
      if (!byName.has(name)) byName.set(name, branch.dataset.at);
    }
    /* A place of the list leads to its first branch, which is the one that changed most. */
    const linked = () => {
      for (const row of view.querySelectorAll("[data-places] tr[data-name]")) {
        const at = byName.get(row.dataset.name);
        const text = row.cells[0].firstChild;
        if (at !== undefined && text && text.nodeType === Node.TEXT_NODE) text.replaceWith(link(text.data, of(at)));
      }
    };
    view.addEventListener("drawn", linked);
    linked();

    const narrow = () => {
      const asked = /^#under=(\d+)\.(\d+)$/.exec(location.hash);
      const at = asked && asked[1] === number ? Number(asked[2]) : -1;
      const inside = new Set(at < 0 ? [] : [at]);
      if (at >= 0)
        for (const branch of first) if (inside.has(Number(branch.dataset.parent))) inside.add(Number(branch.dataset.at));
      for (const mine of branches)
        for (const branch of mine) branch.hidden = at >= 0 && !inside.has(Number(branch.dataset.at));
      if (!crumbs) return;
      crumbs.hidden = at < 0;
      const path = [];
      for (let here = at; here >= 0 && first[here]; here = Number(first[here].dataset.parent))
        path.unshift(link(first[here].dataset.name, of(here)));
      crumbs.replaceChildren("Only what lies under: ", link("everything", "#"), ...path.flatMap((one) => [" > ", one]));
      if (at >= 0) crumbs.scrollIntoView({ block: "nearest" });
    };
    addEventListener("hashchange", narrow);
    narrow();
  };
  for (const view of document.querySelectorAll("[data-inspected]")) start(view);
})();
