"use strict";
// The page is whole without this: here is only what makes it handier.
const by = (id) => document.getElementById(id);
const [find, onlyBad, found] = [by("find"), by("only-bad"), by("found")];
const entries = [...document.querySelectorAll(".entry")];
const files = [...document.querySelectorAll(".file")];
let texts = null;

function search() {
  // Made once, when somebody first looks for something.
  texts ??= entries.map((entry) => (entry.closest(".file")?.firstChild.textContent ?? "").concat("\n", entry.textContent).toLowerCase());
  const words = find.value.toLowerCase().split(/\s+/).filter(Boolean);
  let number = 0;
  entries.forEach((entry, at) => {
    const shown = (!onlyBad.checked || entry.classList.contains("bad")) && words.every((word) => texts[at].includes(word));
    if (entry.hidden === shown) entry.hidden = !shown;
    if (shown && entry.closest(".file")) number += 1;
  });
  for (const file of files) file.hidden = !file.querySelector(".entry:not([hidden])");
  const all = entries.filter((entry) => entry.closest(".file")).length;
  found.textContent = words.length || onlyBad.checked ? `${number} of ${all}` : "";
}

// A link leads to something open.
function reveal() {
  const target = by(decodeURIComponent(location.hash.slice(1)));
  if (!target) return;
  if (target.hidden) { find.value = ""; onlyBad.checked = false; search(); }
  if (target.tagName === "DETAILS") target.open = true;
  target.scrollIntoView({ block: "start" });
  target.querySelector("summary")?.focus({ preventScroll: true });
}

let waiting = 0;
find.addEventListener("input", () => { cancelAnimationFrame(waiting); waiting = requestAnimationFrame(search); });
onlyBad.addEventListener("change", search);
addEventListener("hashchange", reveal);
addEventListener("keydown", (event) => {
  if (event.key === "/" && document.activeElement !== find && !event.ctrlKey && !event.metaKey) {
    event.preventDefault();
    find.focus();
  }
});
by("search").hidden = false;
by("scheme").hidden = false;
by("scheme").addEventListener("click", () => {
  const root = document.documentElement;
  const dark = root.dataset.scheme ? root.dataset.scheme === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  root.dataset.scheme = dark ? "light" : "dark";
});
if (location.hash) reveal();
