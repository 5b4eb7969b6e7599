// On a narrow window the panel of the map is a sheet that comes up from below when something is chosen; its handle
// brings it up and lays it down again.
const narrow = matchMedia("(max-width: 1000px)");
let up = false;

export function sheet(side) {
  const handle = document.createElement("button");
  handle.type = "button";
  handle.className = "handle";
  side.prepend(handle);
  const titled = () => {
    const heads = [...side.querySelectorAll("h2")].filter((h) => !h.closest("[hidden]"));
    handle.textContent = heads[0]?.textContent.trim() || "The panel";
  };
  const show = () => {
    side.classList.toggle("sheet", narrow.matches);
    side.classList.toggle("up", up);
    handle.hidden = !narrow.matches;
    handle.setAttribute("aria-expanded", String(up));
    titled();
  };
  handle.addEventListener("click", () => {
    up = !up;
    show();
  });
  side.addEventListener("keydown", (event) => {
    if (event.key !== "Escape" || !up || !narrow.matches) return;
    up = false;
    show();
    handle.focus();
  });
  side.addEventListener("chosen", (event) => {
    up = up || event.detail;
    show();
  });
  narrow.addEventListener("change", show);
  show();
}
