/* Trials over time: phases are found by name, and measured between two points. */
(() => {
  "use strict";
  const NS = "http://www.w3.org/2000/svg";
  const time = (ns) => {
    const [size, unit] = ns >= 1e9 ? [1e9, "s"] : ns >= 1e6 ? [1e6, "ms"] : [1e3, "µs"];
    return `${Number((ns / size).toPrecision(3))} ${unit}`;
  };
  const number = (text) => (text.trim() === "" ? null : Number(text.replace(",", ".")) * 1e6);

  /* What lies between two points of each phase: of bars that stand for several instances, their share. */
  const within = (bars, from, to) => {
    const sums = new Map();
    for (const { phase, begin, end, wall, count } of bars) {
      const shared = Math.min(end, to) - Math.max(begin, from);
      if (shared < 0 || (shared === 0 && end > begin)) continue;
      const part = end > begin ? shared / (end - begin) : 1;
      const sum = sums.get(phase) || { count: 0, ns: 0 };
      sums.set(phase, { count: sum.count + count, ns: sum.ns + wall * part });
    }
    return [...sums].sort((a, b) => b[1].ns - a[1].ns);
  };

  const start = (box) => {
    if (box.dataset.ready) return;
    box.dataset.ready = "yes";
    const form = box.querySelector("form");
    if (!form) return;
    const length = Number(box.dataset.length);
    const output = box.querySelector("output");
    const lanes = [...box.querySelectorAll("svg.lane")];
    const bars = [...box.querySelectorAll("svg.ph")].map((element) => ({
      element, phase: element.dataset.p, begin: Number(element.dataset.b), end: Number(element.dataset.e),
      wall: Number(element.dataset.w), count: Number(element.dataset.n),
      text: element.querySelector("title").textContent.toLowerCase(),
    }));
    const sides = [...box.querySelectorAll(".side")].map((heading) => {
      const mine = [];
      for (let next = heading.nextElementSibling; next && !next.matches(".side"); next = next.nextElementSibling)
        mine.push(...bars.filter((bar) => next.contains(bar.element)));
      return { heading: heading.textContent, bars: mine };
    });
    const told = (sums, most = 6) => sums.slice(0, most).map(([phase, sum]) =>
      `${phase} ${time(sum.ns)} (${sum.count} ${sum.count === 1 ? "instance" : "instances"})`).join(", ")
      + (sums.length > most ? ` and ${sums.length - most} more phases` : "");

    const update = () => {
      const words = form.find.value.trim().toLowerCase();
      let [from, to] = [number(form.from.value), number(form.to.value)];
      const bad = [from, to].some((value) => value !== null && !Number.isFinite(value));
      for (const old of box.querySelectorAll(".cut")) old.remove();
      for (const bar of bars) bar.element.classList.toggle("dim", words !== "" && !bar.text.includes(words));
      for (const at of [from, to]) {
        if (at === null || bad) continue;
        for (const lane of lanes) {
          const line = document.createElementNS(NS, "line");
          const x = `${Math.min(100, Math.max(0, at / length * 100))}%`;
          for (const [name, value] of [["x1", x], ["x2", x], ["y1", 0], ["y2", "100%"]]) line.setAttribute(name, value);
          line.classList.add("cut");
          lane.append(line);
        }
      }
      if (bad) { output.textContent = "A point in time is a number of milliseconds."; return; }
      if (words === "" && (from === null || to === null)) {
        output.textContent = from === null && to === null ? "" : "Give the other point too.";
        return;
      }
      const all = from === null || to === null;
      if (!all && from > to) [from, to] = [to, from];
      const parts = sides.map((side) => {
        const sums = within(side.bars.filter((bar) => bar.text.includes(words)), all ? 0 : from, all ? Infinity : to);
        return `${side.heading.split(":")[0]}: ${told(sums) || "none"}`;
      });
      output.textContent = `${all ? "Found" : `${time(to - from)} from ${time(from)} to ${time(to)}`}. ${parts.join("; ")}.`;
    };
    form.hidden = false;
    form.addEventListener("input", update);
    form.addEventListener("submit", (event) => event.preventDefault());
    form.addEventListener("reset", () => setTimeout(update));
    for (const lane of lanes) {
      lane.addEventListener("click", (event) => {
        const place = lane.getBoundingClientRect();
        const at = ((event.clientX - place.left) / place.width * length / 1e6).toPrecision(5);
        const field = form.from.value === "" || form.to.value !== "" ? form.from : form.to;
        if (field === form.from) form.to.value = "";
        field.value = Number(at);
        update();
      });
    }
  };
  for (const box of document.querySelectorAll("[data-lanes]")) start(box);
  document.addEventListener("piece", (event) => {
    for (const box of event.target.querySelectorAll("[data-lanes]")) start(box);
  });
})();
