// Exchanges the parts of a page for those of the same page as it is now, so that nobody who is at work on it loses
// anything: a part that says the same stays untouched, and of one that does not, the typed text, the focus, what is
// unfolded and the place it is scrolled to go over into the new one.

// The contents of a page whose template names no parts of them are one part.
const parts = (root) => [
  ...root.querySelectorAll("[data-part]"),
  ...[...root.querySelectorAll("main")].filter((main) => !main.querySelector("[data-part]")),
];
const named = (part) => part.dataset.part ?? part.tagName;

// As the program sent them: what scripts and hands have done to them since does not count.
const sent = new Map(parts(document).map((part) => [named(part), part.outerHTML]));

// exchange takes over what is another page's than before. What stood in the form that was sent is used up. It tells
// whether the page is the same with other contents; if not, nothing has been taken over.
export function exchange(page, used) {
  const next = new Map(parts(page).map((part) => [named(part), part]));
  const here = parts(document);
  if (here.length !== next.size || here.some((part) => !next.has(named(part)))) return false;
  const focus = focused();
  for (const part of here) {
    const fresh = next.get(named(part)),
      html = fresh.outerHTML;
    if (sent.get(named(part)) === html && !(used && part.contains(used))) continue;
    sent.set(named(part), html);
    const typed = typedIn(part, used),
      unfolded = foldsOf(part).filter((f) => f.open),
      { scrollTop, scrollLeft } = part;
    part.replaceWith(fresh);
    for (const f of foldsOf(fresh)) if (unfolded.some((u) => title(u) === title(f))) f.open = true;
    typeInto(fresh, typed);
    fresh.scrollTo({ top: scrollTop, left: scrollLeft, behavior: "instant" });
  }
  document.title = page.title;
  if (focus && !document.contains(focus.element)) focus.again();
  return true;
}

const foldsOf = (part) => [...part.querySelectorAll("details")];
const title = (fold) => fold.querySelector("summary")?.textContent.trim();

// A field is the same one as before by its form's address, what the form tells of itself, and its own name.
function nameOf(field) {
  const form = field.form;
  if (!form || !field.name) return null;
  const hidden = [...form.elements].filter((f) => f.type === "hidden" && f.name !== "plan").map((f) => f.value);
  const choice = ["radio", "checkbox"].includes(field.type) ? field.value : "";
  const same = [...form.querySelectorAll("input, select, textarea")].filter((f) => f.name === field.name);
  const nth = choice ? 0 : same.indexOf(field);
  return [new URL(form.action).pathname, ...hidden, field.name, choice, nth].join("\n");
}

const fieldsOf = (part) =>
  [...part.querySelectorAll("input, select, textarea")].filter((f) => f.type !== "hidden" && f.type !== "file");

function typedIn(part, used) {
  const out = new Map();
  for (const f of fieldsOf(part)) {
    if (f.form === used || !nameOf(f)) continue;
    if (f.type === "radio" || f.type === "checkbox") {
      if (f.checked !== f.defaultChecked) out.set(nameOf(f), f.checked);
    } else if (f.tagName === "SELECT") {
      const first = [...f.options].findIndex((o) => o.defaultSelected);
      if (f.selectedIndex !== Math.max(first, 0)) out.set(nameOf(f), f.value);
    } else if (f.value !== f.defaultValue) out.set(nameOf(f), f.value);
  }
  return out;
}

function typeInto(part, typed) {
  for (const f of fieldsOf(part)) {
    const name = nameOf(f);
    if (!typed.has(name)) continue;
    const was = typed.get(name);
    if (typeof was === "boolean") f.checked = was;
    else if (f.tagName !== "SELECT" || [...f.options].some((o) => o.value === was)) f.value = was;
  }
}

// What has the focus, and how it gets it again where a new one has come in its place.
function focused() {
  const element = document.activeElement;
  if (!element || element === document.body) return null;
  const part = element.closest("[data-part], main");
  const alike = (e) =>
    e.tagName === element.tagName && (e.form ? nameOf(e) : null) === name && e.textContent.trim() === text;
  const id = element.id,
    name = element.form ? nameOf(element) : null,
    text = element.textContent.trim();
  const span = element.selectionStart == null ? null : [element.selectionStart, element.selectionEnd];
  return {
    element,
    again() {
      const root = part && parts(document).find((p) => named(p) === named(part));
      const found =
        (id && document.getElementById(id)) ||
        [...(root?.querySelectorAll("a[href], button, input, select, textarea, summary") ?? [])].find(alike);
      found?.focus({ preventScroll: true });
      if (found && span && found.setSelectionRange) found.setSelectionRange(...span);
    },
  };
}
