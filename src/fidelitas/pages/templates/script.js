"use strict";
// Filters of tables, and all or no details open: the page is whole without it.
for (const box of document.querySelectorAll("[data-filters]")) {
  const table = document.getElementById(box.dataset.filters);
  const rows = Array.from(table.querySelectorAll("tbody tr, details.filtered"));
  let texts = null;  // made when they are first asked for: ten thousand rows take a while
  const count = box.querySelector("output");
  const input = box.querySelector("input[type=search]");
  const choices = Array.from(box.querySelectorAll("select"));
  const apply = () => {
    texts = texts || rows.map((row) => row.textContent.toLowerCase());
    const words = input.value.toLowerCase().split(/\s+/).filter(Boolean);
    let shown = 0;
    rows.forEach((row, number) => {
      const fits = words.every((word) => texts[number].includes(word)) &&
        choices.every((choice) => !choice.value || row.dataset[choice.name] === choice.value);
      row.hidden = !fits;
      shown += fits ? 1 : 0;
    });
    count.textContent = `${shown} of ${rows.length} shown`;
  };
  let waiting = 0;
  input.addEventListener("input", () => { clearTimeout(waiting); waiting = setTimeout(apply, 120); });
  choices.forEach((choice) => choice.addEventListener("change", apply));
  box.hidden = false;
  count.textContent = `${rows.length} of ${rows.length} shown`;
}
document.addEventListener("click", (event) => {
  const link = event.target.closest("a[href^='#']");
  for (let part = link && document.getElementById(link.hash.slice(1)); part; part = part.parentElement) {
    if (part.tagName === "DETAILS") { part.open = true; }
  }
});
