// The trail map: a drive as columns, time running to the right. It draws what the
// page carries as JSON and decides nothing about the drive.
import { byHand } from "./hand.js";

const NS = "http://www.w3.org/2000/svg";
const WIDTH = 130,
  RIBBON = 38,
  HEAD = 44,
  SMALLEST = 27,
  LEGIBLE = 16,
  SPACE = 3,
  STRIP = 7,
  SPINE = 30,
  FRAME = 22,
  INSET = 7,
  HEADROOM = 28,
  FOOT = 112;

function el(name, attributes = {}, ...children) {
  const e = document.createElementNS(NS, name);
  for (const [k, v] of Object.entries(attributes)) e.setAttribute(k, v);
  e.append(...children);
  return e;
}

function words(cls, x, y, text, anchor = "start") {
  return el("text", { class: cls, x, y, "text-anchor": anchor }, text);
}

// place gives every block of a column its y and height: on the legible scale a
// small one keeps a readable minimum, on the true scale nothing does. A container
// is a heading over what lies in it, and reaches to its end.
function place(column, height, trueScale) {
  const all = column.blocks ?? [];
  const blocks = all.filter((b) => b.role !== "container");
  const frames = all.length - blocks.length;
  const most = (height * 0.85 - frames * (FRAME + 2 * SPACE)) / (blocks.length || 1) - SPACE;
  const least = trueScale ? 1.5 : Math.max(Math.min(SMALLEST, most), 1.5);
  const weigh = (b) => (trueScale ? b.bytes : Math.max(b.bytes, 1) ** 0.62);
  const room = Math.max(height - blocks.length * (least + SPACE) - frames * (FRAME + 2 * SPACE), 0);
  const total = blocks.reduce((sum, b) => sum + weigh(b), 0) || 1;
  let y = HEAD,
    frame = null;
  for (const b of all) {
    if (frame && b.inside !== frame.number) {
      frame.h = y - frame.y;
      y += SPACE;
      frame = null;
    }
    b.y = y;
    if (b.role === "container") {
      frame = b;
      b.h = FRAME;
      y += FRAME;
      continue;
    }
    b.h = least + (room * weigh(b)) / total;
    y += b.h + SPACE;
  }
  if (frame) frame.h = y - frame.y;
}

// The edge pattern of a role, drawn over its strip, so that colour alone carries
// no meaning. It is one path: a map has thousands of them.
function pattern(role, x, y, h) {
  const way = {
    data: (at) => `M${x},${at + 4} L${x + STRIP},${at}`,
    recovery: (at) => `M${x + STRIP / 2 - 1},${at} a1,1 0 1 0 2,0 a1,1 0 1 0 -2,0`,
    oem: (at) => `M${x},${at} l${STRIP},4 m${-STRIP},0 l${STRIP},-4`,
    efi: (at) => `M${x},${at} h${STRIP}`,
    reserved: (at) => `M${x + STRIP / 2},${at - 2} v4`,
  }[role];
  const all = [];
  if (way) for (let at = y + 4; at < y + h - 2; at += 7) all.push(way(at));
  return el("path", { class: "edge", d: all.join(" ") });
}

// inUse is the path of what is in use of a strip, as the file system's bitmap has it, in rows of at least half a pixel.
function inUse(b, x) {
  const rows = Math.max(Math.min(b.use.length, Math.floor(b.h * 2)), 1),
    part = b.h / rows,
    of = (i) => Math.floor((i * b.use.length) / rows),
    used = (i) => {
      const cells = b.use.slice(of(i), of(i + 1));
      return cells.reduce((sum, n) => sum + n, 0) > 40 * cells.length;
    };
  const all = [];
  for (let i = 0, from = 0; i <= rows; i++) {
    const on = i < rows && used(i);
    if (!on && from < i) all.push(`M${x},${b.y + from * part} h${STRIP} v${(i - from) * part} h${-STRIP} z`);
    if (!on) from = i + 1;
  }
  return el("path", { class: "used", d: all.join(" ") });
}

function strip(b, x) {
  const g = el("g", { "aria-hidden": "true" });
  g.append(el("rect", { class: "strip", x, y: b.y, width: STRIP, height: b.h }));
  if (b.use?.length) g.append(inUse(b, x));
  else if (b.fill >= 0) g.append(el("rect", { class: "used", x, y: b.y, width: STRIP, height: (b.h * b.fill) / 100 }));
  g.append(pattern(b.role, x, b.y, b.h));
  return g;
}

const pen = document.createElement("canvas").getContext("2d");

function length(text, weight = 400, size = 12.5) {
  pen.font = `${weight} ${size}px Next, sans-serif`;
  return pen.measureText(text).width;
}

// fit shortens a text to the room there is.
function fit(text, room, weight = 600, size = 12.5) {
  if (length(text, weight, size) <= room) return text;
  let n = text.length;
  while (n > 1 && length(`${text.slice(0, n)}…`, weight, size) > room) n--;
  return `${text.slice(0, n)}…`;
}

// inTwo breaks a text into at most two lines.
function inTwo(text, room) {
  const all = text.split(" ");
  let n = all.length;
  while (n > 1 && length(all.slice(0, n).join(" "), 600) > room) n--;
  const rest = all.slice(n).join(" ");
  return [fit(all.slice(0, n).join(" "), room), ...(rest ? [fit(rest, room)] : [])];
}

function drawBlock(b, x, column) {
  const full = b.inside ? WIDTH - 2 * INSET : WIDTH;
  if (b.inside) x += INSET;
  const inside = x + STRIP + 7,
    right = x + full - 6;
  const what = b.kind === "gap" ? `gap of ${b.size}` : `${b.title}, ${b.size}${b.left ? `, ${b.left}` : ""}`;
  const g = el("g", {
    role: "button",
    tabindex: "-1",
    "aria-pressed": "false",
    "aria-label": `${what}, in ${column.title}`,
    class: b.kind === "gap" ? "" : `r-${b.role}`,
  });
  g.append(el("title", {}, `${what} (${b.exact})`));
  if (b.role === "container") {
    g.append(
      el("rect", { class: "box frame", x: x + 0.5, y: b.y, width: full - 1, height: b.h, rx: 4 }),
      words("s", x + 8, b.y + 15.5, fit(b.title, full - length(b.size) - 20, 400)),
      words("s", right, b.y + 15.5, b.size, "end"),
    );
    return g;
  }
  if (b.kind === "gap")
    g.append(el("rect", { class: "gapbox", x: x + 0.5, y: b.y, width: full - 1, height: b.h, rx: 4 }));
  else
    g.append(
      el("rect", {
        class: `box${b.changed ? " changed" : ""}`,
        x: x + 0.5,
        y: b.y,
        width: full - 1,
        height: b.h,
        rx: 4,
      }),
      strip(b, x),
    );
  if (b.h >= 13) {
    const tall = b.h > 54,
      y = tall ? b.y + 19 : b.y + b.h / 2 + 4.5;
    const soft = b.kind === "gap" ? "s" : "t";
    if (tall) {
      g.append(
        words(soft, inside, y, fit(b.title, full - 18)),
        words(b.kind === "gap" ? "s" : "", inside, y + 17, b.size),
      );
      if (b.left) g.append(words(b.care ? "c" : "s", inside, y + 34, b.left));
    } else {
      g.append(
        words(soft, inside, y, fit(b.title, right - inside - length(b.size) - 5)),
        words("s", right, y, b.size, "end"),
      );
    }
  }
  return g;
}

// found draws lost partitions beside the blocks in whose place they lie: an open bracket with the
// small pile of stones, which leads to the find.
function found(c, x) {
  const at = (lba, end) => {
    for (const b of c.blocks ?? []) {
      if (b.role === "container" || lba < b.start || lba > b.end) continue;
      return b.y + (b.h * (lba - b.start + (end ? 1 : 0))) / (b.end - b.start + 1);
    }
    return HEAD;
  };
  return (c.finds ?? []).map((f, i) => {
    const top = at(f.start, false),
      bottom = Math.max(at(f.end, true), top + 8),
      right = x + WIDTH + 4 + (i % 3) * 7;
    const a = el("a", { href: f.link, class: "find", "aria-label": `Find: ${f.text}` });
    a.append(
      el("title", {}, `${f.text}. Look at it`),
      el("rect", { x: right - 4, y: top, width: 12, height: bottom - top, fill: "transparent" }),
      el("path", { d: `M${right - 4},${top + 1} H${right} V${bottom - 1} H${right - 4}` }),
    );
    const y = (top + bottom) / 2;
    a.append(
      el("ellipse", { cx: right, cy: y + 5, rx: 8, ry: 3.2 }),
      el("ellipse", { cx: right, cy: y, rx: 6, ry: 2.8 }),
      el("ellipse", { cx: right, cy: y - 4.6, rx: 3.6, ry: 2.2 }),
    );
    return a;
  });
}

function band(x1, a, x2, b, cls) {
  const m = (x1 + x2) / 2;
  const d = `M${x1},${a.y} C${m},${a.y} ${m},${b.y} ${x2},${b.y} V${b.y + b.h} C${m},${b.y + b.h} ${m},${a.y + a.h} ${x1},${a.y + a.h} Z`;
  return el("path", { class: cls, d });
}

function stones(x, y, pile) {
  const g = el("g", {});
  g.append(
    el(
      "title",
      {},
      pile.record ? `Record of ${pile.title}: what was kept, and bring back` : `${pile.title} will be kept as a record`,
    ),
  );
  g.append(
    el("ellipse", { class: "stone1", cx: x, cy: y + 6, rx: 9, ry: 3.4 }),
    el("ellipse", { class: "stone2", cx: x, cy: y, rx: 6.5, ry: 3 }),
    el("ellipse", { class: "stone3", cx: x, cy: y - 5.4, rx: 4, ry: 2.4 }),
  );
  if (!pile.record) return g;
  return el(
    "a",
    { href: `/records/${pile.record}`, "aria-label": `Record of ${pile.title}` },
    el("rect", { x: x - 13, y: y - 12, width: 26, height: 26, fill: "transparent" }),
    g,
  );
}

// goodMark is the sign of a state that was marked as good.
function goodMark(x, y, text) {
  const g = el("g", { class: "goodmark", role: "img", "aria-label": text });
  g.append(
    el("title", {}, text),
    el("circle", { cx: x, cy: y, r: 7 }),
    el("path", { d: `M${x - 3.2} ${y}l2.3 2.4 4.2-4.6` }),
  );
  return g;
}

// ribbons joins two columns: what stays is a band, what ends tapers to its pile
// of stones, what begins opens from a point.
function ribbons(svg, left, x1, right, x2) {
  const next = new Map((right.blocks ?? []).map((b) => [b.key, b]));
  const before = new Set((left.blocks ?? []).map((b) => b.key));
  for (const b of left.blocks ?? []) {
    if (b.kind === "gap" || b.role === "container") continue;
    const n = next.get(b.key);
    if (n) svg.append(band(x1, b, x2, n, `ribbon r-${b.role}${n.start !== b.start ? " moves" : ""}`));
    const pile = (right.piles ?? []).find((p) => p.key === b.key);
    if (!n && pile) {
      const y = b.y + b.h / 2;
      svg.append(
        band(x1, b, x1 + RIBBON * 0.45, { y: y - 3, h: 6 }, `ribbon moves r-${b.role}`),
        stones(x1 + RIBBON * 0.66, y, pile),
      );
    }
  }
  for (const b of right.blocks ?? []) {
    if (b.kind === "gap" || b.role === "container" || before.has(b.key)) continue;
    const y = b.y + b.h / 2;
    svg.append(band(x2 - RIBBON * 0.5, { y: y - 1, h: 2 }, x2, b, `ribbon moves r-${b.role}`));
  }
}

// wrote draws where a run has put something, over the blocks of the column of its step. Places are in bytes.
function wrote(c, x, places, sector) {
  const g = el("g", { class: "wrote", "aria-hidden": "true" });
  for (const [from, to] of places ?? [])
    for (const b of c.blocks ?? []) {
      const start = Math.max(from / sector, b.start),
        end = Math.min(to / sector, b.end + 1);
      if (b.role === "container" || start >= end) continue;
      const at = (lba) => b.y + (b.h * (lba - b.start)) / (b.end - b.start + 1);
      const inset = b.inside ? INSET : 0;
      const h = Math.max(at(end) - at(start), 1.5);
      g.append(el("rect", { x: x + inset + STRIP, y: at(start), width: WIDTH - 2 * inset - STRIP, height: h }));
    }
  return g;
}

export function trailMap(root, data, send) {
  let trueScale = false,
    chosen = null,
    open = -1; // open: the past column that is unfolded
  const shown = new Set([data.plan]); // the states of the plan that this page has shown
  let columns = data.columns;
  let nowAt = columns.findIndex((c) => c.kind === "now");
  const form = document.getElementById("hand");
  const hand = form && byHand(root, form, (body) => send(data.act, body));

  // holdable is what the hand needs to know of a block of the newest column, null for what
  // it cannot work.
  function holdable(i, k) {
    const b = columns[i].blocks?.[k],
      h = hand && i === columns.length - 1 && b.kind !== "gap" && data.hand?.[b.key];
    if (!h) return null;
    const blocks = columns[i].blocks,
      gap = (g) => (g?.kind === "gap" && (g.inside ?? 0) === (b.inside ?? 0) ? g : null);
    const w = b.inside ? WIDTH - 2 * INSET : WIDTH;
    return [
      b,
      { above: gap(blocks[k - 1]), below: gap(blocks[k + 1]) },
      { hand: h, x: b.x + (b.inside ? INSET : 0), w, height: root.querySelector("svg").getAttribute("height") },
    ];
  }

  // stands tells how a run that is under way stands with a column: done, here, open; "" for one it is not about.
  function stands(c) {
    const run = data.run;
    if (!run || c.kind === "past") return "";
    if (run.kind === "undo") return c.kind === "now" ? "here" : "open";
    if (c.kind === "now") return "";
    return c.step < run.step ? "done" : c.step === run.step ? "here" : "open";
  }

  function head(svg, c, x) {
    const at = c.kind === "plan" ? x + 22 : x;
    if (c.kind === "plan") {
      const how = stands(c);
      svg.append(el("circle", { class: `stepdot ${how}`, cx: x + 9, cy: 10, r: 9 }));
      if (how === "done") svg.append(el("path", { class: "stepdone", d: `M${x + 4.8} 10.4l2.8 2.9 5.4-5.8` }));
      else svg.append(words("stepno", x + 9, 14.5, c.step));
    }
    svg.append(
      words("h", at, 15, fit(c.title, WIDTH - (at - x) + 24, 600, 14)),
      words("s", at, 32, fit(c.sub, WIDTH - (at - x) + 26, 400)),
    );
    svg.lastChild.append(el("title", {}, c.sub));
    if (c.good)
      svg.append(goodMark(at + length(fit(c.title, WIDTH - (at - x) + 24, 600, 14), 600, 14) + 12, 10, c.good));
  }

  function draw() {
    const focus = root.contains(document.activeElement) ? chosen : null;
    root.replaceChildren();
    const futures = data.futures ?? [];
    const foot = futures.length ? FOOT : 0;
    // With very many partitions the map becomes higher than its window, so that each can still be read.
    const blocks = Math.max(...[...columns, ...futures].map((c) => c.blocks?.length ?? 0));
    const height = Math.max(root.clientHeight - HEAD - 6 - foot, foot ? 320 : 400, blocks * (LEGIBLE + SPACE));
    const spine = (i) => columns[i].kind === "past" && i !== open && columns.length > 3;
    const xs = [];
    let x = 1;
    columns.forEach((_, i) => {
      xs.push(x);
      x += (spine(i) ? SPINE : WIDTH) + RIBBON;
    });
    [...columns, ...futures].forEach((c) => place(c, height, trueScale));
    // Each column has a drawing of its own, with the ribbons that lead to it, so that the
    // browser need not look after those out of sight.
    columns.forEach((c, i) => {
      const from = i > 0 ? xs[i] - RIBBON : 0,
        to = xs[i] + (spine(i) ? SPINE : WIDTH),
        w = to - from + HEADROOM;
      const svg = el("svg", {
        width: w,
        height: height + HEAD + 4,
        viewBox: `${from} 0 ${w} ${height + HEAD + 4}`,
        role: "group",
        "aria-label": c.title,
      });
      const box = document.createElement("div");
      box.className = "moment";
      box.style = `width:${w}px;height:${height + HEAD + 4}px;contain-intrinsic-size:${w}px ${height + HEAD + 4}px;margin-right:${-HEADROOM}px`;
      box.append(svg);
      root.append(box);
      if (i > 0) ribbons(svg, columns[i - 1], xs[i - 1] + (spine(i - 1) ? SPINE : WIDTH), c, xs[i]);
      if (spine(i)) {
        const g = el("g", { role: "button", tabindex: "0", "aria-label": `Unfold the mark of ${c.title}` });
        g.append(
          el("title", {}, `${c.title}, ${c.sub}`),
          words("s mark", xs[i], 15, c.title.split(" ").slice(0, 2).join(" ")),
          words("s mark", xs[i], 32, c.title.split(" ")[2] ?? ""),
        );
        for (const b of (c.blocks ?? []).filter((b) => b.role !== "container"))
          g.append(
            el("rect", {
              class: b.kind === "gap" ? "gapbox" : `box r-${b.role}`,
              x: xs[i],
              y: b.y,
              width: SPINE,
              height: b.h,
              rx: 3,
            }),
            b.kind === "gap" ? "" : el("g", { class: `r-${b.role}` }, strip(b, xs[i])),
          );
        const unfold = () => {
          open = i;
          draw();
        };
        g.addEventListener("click", unfold);
        g.addEventListener("keydown", (e) => {
          if (e.key === "Enter" || e.key === " ") {
            e.preventDefault();
            unfold();
          }
        });
        svg.append(g);
        return;
      }
      head(svg, c, xs[i]);
      if (!c.blocks?.length) svg.append(words("why", xs[i], HEAD + 20, "cannot be done"));
      (c.blocks ?? []).forEach((b, k) => {
        const g = drawBlock(b, xs[i], c);
        b.node = g;
        b.x = xs[i];
        if (i === columns.length - 1 && b.kind !== "gap" && data.hand?.[b.key]) {
          g.classList.add("holdable");
          g.setAttribute("aria-keyshortcuts", "e h s");
          const w = b.inside ? WIDTH - 2 * INSET : WIDTH,
            x = xs[i] + (b.inside ? INSET : 0);
          for (const [cls, y] of [
            ["grip", b.y],
            ["grip", b.y + b.h],
          ])
            g.append(el("line", { class: cls, x1: x + w / 2 - 12, x2: x + w / 2 + 12, y1: y, y2: y }));
          g.addEventListener("pointerdown", (e) => {
            const held = holdable(i, k);
            if (held) {
              choose(i, k, false);
              hand.pointer(e, ...held, g);
            }
          });
          g.addEventListener("pointermove", (e) => {
            if (e.buttons) return;
            const box = g.getBoundingClientRect();
            g.style.cursor = e.clientY - box.top < 7 || box.bottom - e.clientY < 7 ? "ns-resize" : "grab";
          });
        }
        g.addEventListener("click", () => choose(i, k, false, true));
        g.addEventListener("keydown", (e) => walk(e, i, k));
        svg.append(g);
      });
      svg.append(...found(c, xs[i]));
      if (stands(c) === "here") {
        c.wrote = wrote(c, xs[i], data.run.written, data.sector);
        svg.append(c.wrote);
      }
    });
    futures.forEach((f, i) => root.append(future(f, i === 0 && columns.at(-1), height)));
    if (columns.length === 1 && !futures.length && root.clientWidth > 420) root.append(hint());
    mark();
    if (focus) columns[focus.i]?.blocks?.[focus.k]?.node?.focus();
  }

  // future draws the drive as a route would leave it, with what that costs and the way to take it. The first one is
  // joined to the newest column, from which all of them go on.
  function future(f, from, height) {
    const left = from ? RIBBON : 26;
    const box = document.createElement("section");
    box.className = `future${from ? "" : " beside"}`;
    box.setAttribute("aria-label", `Future: ${f.title}`);
    const w = left + WIDTH + 12;
    const svg = el("svg", {
      width: w,
      height: height + HEAD + 4,
      viewBox: `${-left} 0 ${w} ${height + HEAD + 4}`,
      role: "img",
      "aria-label": `${f.title}; ${f.lost}; ${f.price}`,
    });
    svg.append(
      ...inTwo(f.title, WIDTH + 14).map((text, i) => words("t", 0, 14 + 16 * i, text)),
      el("title", {}, `${f.title}; ${f.lost}`),
    );
    if (from) ribbons(svg, from, -RIBBON, f, 0);
    for (const b of f.blocks) {
      const g = drawBlock(b, 0, f);
      for (const name of ["role", "tabindex", "aria-pressed", "aria-label"]) g.removeAttribute(name);
      svg.append(g);
    }
    const cost = document.createElement("div");
    cost.className = "cost";
    cost.style.marginLeft = `${left}px`;
    const line = (text, cls = "") => {
      const p = document.createElement("p");
      p.className = cls;
      p.textContent = text;
      cost.append(p);
    };
    line(f.lost, f.care ? "care" : "sound");
    line(f.price);
    if (f.asks?.length) line(f.asks.join(", "), "soft");
    const form = document.createElement("form");
    form.method = "post";
    form.action = data.take;
    form.dataset.soft = "";
    for (const [name, value] of [...(data.fields ?? []).map((x) => [x.Key, x.Title]), ["route", f.id]]) {
      const hidden = document.createElement("input");
      Object.assign(hidden, { type: "hidden", name, value });
      form.append(hidden);
    }
    const take = document.createElement("button");
    take.className = from && !f.care ? "act" : "act ghost";
    take.textContent = "Take this";
    take.setAttribute("aria-label", `Take this: ${f.title}`);
    form.append(take);
    cost.append(form);
    box.append(svg, cost);
    return box;
  }

  function hint() {
    const p = document.createElement("p");
    p.className = "hint soft";
    p.textContent =
      "Choose a partition, or the room that is free. Each step you add on the right becomes a column here, and nothing is written before you carry the plan out.";
    return p;
  }

  // mark shows which partition is chosen, in every column that has it, and makes
  // exactly one block reachable by Tab.
  function mark() {
    const key = chosen && columns[chosen.i].blocks[chosen.k]?.key;
    for (const c of columns)
      for (const b of c.blocks ?? []) b.node?.setAttribute("aria-pressed", String(b.key === key));
    for (const c of columns) for (const b of c.blocks ?? []) b.node?.setAttribute("tabindex", "-1");
    const reach = chosen ? columns[chosen.i].blocks[chosen.k] : columns[nowAt]?.blocks?.[0];
    reach?.node?.setAttribute("tabindex", "0");
  }

  // choose marks a block and shows its panel; byHand is for who has pointed at it, so that a panel below comes up.
  function choose(i, k, focus = true, byHand = focus) {
    const b = columns[i]?.blocks?.[k];
    if (!b) return;
    chosen = { i, k };
    mark();
    if (focus) b.node?.focus();
    show(b);
    document.querySelector(".side")?.dispatchEvent(new CustomEvent("chosen", { detail: byHand }));
  }

  function show(b) {
    let name = b.kind === "gap" ? b.key : String(b.number);
    if (b.kind === "gap" && !document.querySelector(`[data-panel="${name}"]`)) name = "gap";
    if (!document.querySelector(`[data-panel="${name}"]`)) return; // it begins with the plan
    for (const p of document.querySelectorAll("[data-panel]")) p.hidden = p.dataset.panel !== name;
    if (name === "gap") {
      const p = document.querySelector('[data-panel="gap"]');
      p.querySelector("[data-size]").textContent = b.size;
      p.querySelector("[data-exact]").textContent = b.exact;
      p.querySelector("[data-sectors]").textContent = `${b.start.toLocaleString("fr")} … ${b.end.toLocaleString("fr")}`;
    } else {
      const url = new URL(location.href);
      url.searchParams.delete(b.kind === "gap" ? "p" : "gap");
      url.searchParams.set(b.kind === "gap" ? "gap" : "p", b.kind === "gap" ? b.key : b.number);
      history.replaceState(null, "", url);
    }
  }

  function walk(event, i, k) {
    const held = holdable(i, k);
    if (held && hand.keys(event, ...held)) {
      event.preventDefault();
      event.stopPropagation();
      return;
    }
    const to = { ArrowUp: [i, k - 1], ArrowDown: [i, k + 1], ArrowLeft: [i - 1, -1], ArrowRight: [i + 1, -1] }[
      event.key
    ];
    if (event.key === "Enter" || event.key === " ") {
      event.preventDefault();
      choose(i, k);
      document.querySelector(".part:not([hidden]) h2")?.scrollIntoView({ block: "nearest" });
      return;
    }
    if (!to) return;
    event.preventDefault();
    let [ci, ck] = to;
    if (ck === -1 && ci !== i) {
      // the same partition in the next column, else the one beside it
      const key = columns[i].blocks[k].key;
      ck = columns[ci]?.blocks?.findIndex((b) => b.key === key) ?? -1;
      if (ck < 0) ck = Math.min(k, (columns[ci]?.blocks?.length ?? 0) - 1);
    }
    choose(ci, ck, true, false);
  }

  document.addEventListener("click", (event) => {
    const link = event.target.closest?.("[data-select]");
    if (!link) return;
    const k = columns[nowAt].blocks.findIndex(
      (b) => (b.kind === "gap" ? b.key : String(b.number)) === link.dataset.select,
    );
    if (k < 0) return;
    event.preventDefault();
    choose(nowAt, k);
  });
  const panel = document.querySelector("[data-panel]:not([hidden])")?.dataset.panel;
  const first = columns[nowAt]?.blocks?.findIndex((b) => (b.kind === "gap" ? b.key : String(b.number)) === panel) ?? -1;
  const blocks = columns[nowAt]?.blocks ?? [];
  if (first >= 0) chosen = { i: nowAt, k: first };
  else if (blocks.length && blocks.every((b) => b.kind === "gap")) chosen = { i: nowAt, k: 0 }; // a drive with nothing but room
  new ResizeObserver(() => draw()).observe(root);
  document.fonts.ready.then(draw);
  draw();
  return {
    // update takes what the page shows now; the chosen partition stays chosen.
    update(next) {
      const key = chosen && columns[chosen.i]?.blocks?.[chosen.k]?.key;
      data = next;
      shown.add(data.plan);
      columns = data.columns;
      nowAt = columns.findIndex((c) => c.kind === "now");
      open = -1;
      chosen = null;
      hand?.leave();
      draw();
      for (let i = columns.length - 1; i >= 0; i--) {
        const k = columns[i].blocks?.findIndex((b) => b.key === key) ?? -1;
        if (k >= 0) {
          choose(i, k, false);
          break;
        }
      }
      root.scrollTo({ left: root.scrollWidth });
    },
    // goesOn draws how far a run has come.
    goesOn(run) {
      const step = data.run?.step;
      data.run = run;
      if (step !== run.step) return draw();
      const i = columns.findIndex((c) => stands(c) === "here"),
        c = columns[i];
      if (!c?.wrote) return;
      const next = wrote(c, c.blocks[0]?.x ?? 0, run.written, data.sector);
      c.wrote.replaceWith(next);
      c.wrote = next;
    },
    focus() {
      if (chosen) columns[chosen.i]?.blocks?.[chosen.k]?.node?.focus();
    },
    shown: (plan) => shown.has(plan),
    scale() {
      trueScale = !trueScale;
      draw();
    },
    step(by) {
      const i = Math.min(Math.max((chosen?.i ?? nowAt) + by, 0), columns.length - 1);
      if (columns[i].kind === "past" && columns.length > 3) {
        open = i;
        draw();
      }
      const key = chosen && columns[chosen.i].blocks[chosen.k]?.key;
      const k = Math.max(columns[i].blocks?.findIndex((b) => b.key === key) ?? 0, 0);
      choose(i, k);
      root.scrollTo({
        left: i * (WIDTH + RIBBON) - root.clientWidth / 2,
        behavior: matchMedia("(prefers-reduced-motion: reduce)").matches ? "auto" : "smooth",
      });
    },
  };
}
