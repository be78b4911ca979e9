"use strict";
// The page of one lab. Its state is the fragment of the address, words between slashes:
// picture/VIEW/CUT, reach/FROM/TO, machine/NAME, segment/NAME, findings, expectations, addresses,
// machines, routes, cuts/WHAT/FROM/TO, ask/FROM/TO.

const byId = id => document.getElementById(id);
const isLive = document.body.dataset.live !== undefined;
let data, size, machineOf, endOf;

// An element with attributes and children; a string is a text, never markup.
function make(kind, attributes = {}, ...children) {
  const element = document.createElement(kind);
  for (const [name, value] of Object.entries(attributes))
    if (name === "on") Object.entries(value).forEach(([event, run]) => element.addEventListener(event, run));
    else if (value !== false && value !== null && value !== undefined) element.setAttribute(name, value);
  element.append(...children.flat().filter(child => child !== null && child !== undefined));
  return element;
}
const link = (words, text) => make("a", {href: "#" + words.map(encodeURIComponent).join("/")}, text);
const state = () => location.hash.slice(1).split("/").map(decodeURIComponent);
const go = words => { location.hash = words.map(encodeURIComponent).join("/"); };

// A row for each item, its cells by `cells`; of many only the first, and more at a click.
function table(headings, items, cells = item => item) {
  const step = 100;
  const body = make("tbody");
  const more = make("button", {on: {click: () => add()}});
  const add = () => {
    const first = body.rows.length;
    body.append(...items.slice(first, first + step).map(item => make("tr", {}, cells(item).map(cell => make("td", {}, cell)))));
    more.textContent = "more of " + items.length;
    more.hidden = body.rows.length === items.length;
  };
  add();
  const whole = make("table", {}, make("thead", {}, make("tr", {}, headings.map(heading => make("th", {scope: "col"}, heading)))), body);
  return more.hidden ? whole : [whole, more];
}

// --- pairs ---------------------------------------------------------------------------------------

const pairAt = (from, to) => {
  const at = 3 * (from * size + to);
  return {there: data.pairs[at], back: data.pairs[at + 1], why: data.pairs[at + 2],
          isAsked: data.pairs[at] >= 0 || data.pairs[at + 2] >= 0};
};

function steps(first) {
  const found = [];
  for (let at = first; at >= 0; at = data.steps[6 * at + 5]) {
    const word = part => data.steps[6 * at + part] < 0 ? "" : data.words[data.steps[6 * at + part]];
    found.push({machine: word(0), in: word(1), out: word(2), action: word(3), detail: word(4)});
  }
  return found;
}

const wayList = way => make("ol", {class: "steps"}, way.map(step => make("li", {},
  machineOf.has(step.machine) ? link(["machine", step.machine], step.machine) : step.machine,
  make("span", {class: "faint"}, (step.in ? " in by " + step.in : "") + (step.out ? " out by " + step.out : "")),
  " ", step.action, step.detail ? make("span", {class: "mono"}, " " + step.detail) : null)));

function stepList(first, heading) {
  const way = steps(first);
  return way.length === 0 ? [] : [make("h3", {}, heading), wayList(way)];
}

function findingText(number) {
  const finding = data.check.findings[number];
  return [make("p", {}, make("strong", {class: finding.severity === "error" ? "bad" : ""}, finding.severity + " " + finding.finding),
    " ", make("span", {class: "faint"}, data.plan + ":" + finding.at.line + ":" + finding.at.column)),
    make("p", {}, finding.explanation),
    finding.remedy ? make("p", {}, make("strong", {class: "good"}, finding.mends ? "what mends it" : "remedy"), make("br"),
      make("span", {class: "mono"}, finding.remedy)) : null];
}

function showPair(from, to, under) {
  const pair = pairAt(from, to);
  const end = number => data.ends[number].label;
  const isLost = under && under.lost.includes(from * size + to);
  const why = pair.why >= 0 ? data.whys[pair.why] : null;
  side(make("h2", {}, end(from) + " to " + end(to)),
    under ? make("p", {}, isLost ? make("strong", {class: "bad"}, "without " + under.cut + ": no reply")
                                 : "as without the cut") : null,
    why ? [make("p", {}, make("strong", {class: "bad"}, "no reply: " + why.cause)), make("p", {}, why.text),
           why.finding !== null ? findingText(why.finding)
             : make("p", {class: "faint"}, "No finding has this cause at this line.")]
        : make("p", {}, make("strong", {class: "good"}, from === to ? "itself" : "reply"), under ? " while nothing is cut" : ""),
    stepList(pair.there, "The way there" + (under ? ", uncut" : "")), stepList(pair.back, "The way back" + (under ? ", uncut" : "")),
    make("p", {}, link(["reach", end(to), end(from)], "the other way round"), " ", link(["picture"], "in the picture")));
  followed = {machines: new Set([...steps(pair.there), ...steps(pair.back)].map(step => step.machine)), chosen: null};
}

// --- the panel beside the view ---------------------------------------------------------------------

let followed = {machines: new Set(), chosen: null};

function side(...children) {
  byId("side").replaceChildren(make("button", {class: "close", on: {click: () => { byId("side").hidden = true; }}}, "close"),
    ...children.flat(3).filter(child => child !== null && child !== undefined));
  byId("side").hidden = false;
}

function showMachine(name) {
  const machine = machineOf.get(name);
  if (!machine) { side(make("p", {}, "There is no machine " + name + ".")); return; }
  const numbers = data.routes[name] || [];
  const routes = [];
  for (let i = 0; i < numbers.length; i += 5)
    routes.push(numbers.slice(i, i + 5).map(number => number < 0 ? "" : data.words[number]));
  side(make("h2", {}, name), make("p", {}, machine.kind + (machine.forwards ? ", forwards" : "") + ", " + machine.state),
    make("h3", {}, "NICs"),
    table(["NIC", "segment", "addresses", "MAC"], machine.nics, nic => [nic.name, link(["segment", nic.segment], nic.segment),
      nic.addresses.map(each => [each.address + "/" + each.length, make("br")]).flat(), nic.mac]),
    routes.length > 0 ? [make("h3", {}, "Routes"), table(["to", "kind", "out", "via", "learned from"], routes)] : null,
    endOf.has(name) ? make("p", {}, link(["reach", name], "whom it reaches")) : null);
  followed = {machines: new Set(), chosen: "machine-" + name};
}

function showSegment(name) {
  const prefixes = data.addresses.prefixes.filter(each => each.segment === name);
  const on = data.machines.flatMap(machine => machine.nics.filter(nic => nic.segment === name).map(nic => [machine, nic]));
  side(make("h2", {}, name),
    table(["prefix", "gateway", "used", "free"], prefixes, each => [each.prefix, each.gateway || "", String(each.used), String(each.free)]),
    make("h3", {}, "On it"),
    table(["NIC", "addresses"], on, ([machine, nic]) => [link(["machine", machine.machine], machine.machine + "/" + nic.name),
      nic.addresses.map(each => [each.address, make("br")]).flat()]));
  followed = {machines: new Set(), chosen: "segment-" + name};
}

// --- views -----------------------------------------------------------------------------------------

// What a cell shows: its class, its sign, and what it says.
function cellOf(from, to, lost) {
  const pair = pairAt(from, to);
  return from === to ? ["self", "\u00b7", "itself"]
    : lost.has(from * size + to) ? ["lost", "\u2715", "loses its reply"]
    : !pair.isAsked ? ["self", " ", "not asked"]
    : pair.why < 0 ? ["yes", "\u2713", "reply"]
    : [data.whys[pair.why].finding === null ? "wanted" : "no", "\u2013", "no reply, " + data.whys[pair.why].cause];
}

// Cells are reached by the arrow keys; one at a time is in the order of Tab. So many are there that
// what one says is put on it when somebody comes to it.
function matrix(under) {
  const lost = new Set(under ? under.lost : []);
  const base = under ? ["cuts", under.cut] : ["reach"];
  const all = [...Array(size).keys()];
  const cell = (from, to) => {
    const [kind, sign] = cellOf(from, to, lost);
    const made = document.createElement("div");
    made.className = kind;
    made.setAttribute("role", "gridcell");
    made.textContent = sign;
    return made;
  };
  const row = (...children) => make("div", {role: "row"}, ...children);
  const rows = all.map(from => row(make("div", {role: "rowheader"}, data.ends[from].label), all.map(to => cell(from, to))));
  const element = make("div", {class: "matrix", role: "grid", "aria-label": "who reaches whom"},
    row(make("div", {role: "columnheader", class: "faint"}, "from \\ to"), all.map(to => make("div", {role: "columnheader"}, make("span", {}, data.ends[to].label)))), rows);
  element.style.setProperty("--names", Math.max(10, ...data.ends.map(end => end.label.length)) + "ch");
  element.style.setProperty("--count", size);
  const cellAt = (from, to) => rows[from].children[to + 1];
  const placeOf = target => {
    const at = target.closest("[role=gridcell]");
    return at ? [rows.indexOf(at.parentNode), [...at.parentNode.children].indexOf(at) - 1] : null;
  };
  const describe = place => {
    const at = cellAt(...place);
    at.title = data.ends[place[0]].label + " to " + data.ends[place[1]].label + ": " + cellOf(...place, lost)[2];
    at.setAttribute("aria-label", at.title);
    return at;
  };
  const enter = place => {
    element.querySelectorAll("[tabindex]").forEach(each => each.removeAttribute("tabindex"));
    const at = describe(place);
    at.tabIndex = 0;
    return at;
  };
  const open = place => go([...base, data.ends[place[0]].label, data.ends[place[1]].label]);
  element.addEventListener("mouseover", event => { const place = placeOf(event.target); if (place) describe(place); });
  element.addEventListener("click", event => { const place = placeOf(event.target); if (place) open(place); });
  element.addEventListener("keydown", event => {
    const move = {ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1], Enter: [0, 0], " ": [0, 0]}[event.key];
    const place = placeOf(event.target);
    if (!move || !place) return;
    event.preventDefault();
    if (move[0] === 0 && move[1] === 0) return open(place);
    const next = [place[0] + move[0], place[1] + move[1]];
    if (next.every(each => each >= 0 && each < size)) enter(next).focus();
  });
  const choose = (from, to) => {
    element.querySelectorAll(".chosen").forEach(each => each.classList.remove("chosen"));
    if (from !== undefined && to !== undefined) enter([from, to]).classList.add("chosen");
    else if (size > 0 && !element.querySelector("[tabindex]")) enter([0, 0]);
  };
  return {element, choose, cellAt, under};
}
let shownMatrix = null; // what the view shows, if it is a matrix

const notes = () => data.notes.map(note => make("p", {class: "faint"}, note));

const views = {
  reach(from, to) {
    return matrixView(null, from, to, () => [make("p", {}, "\u2713 reply, \u2013 none (filled: a finding has its cause; outlined: none has). "
      + "Choose a cell for the journey there and back."), notes()]);
  },
  findings(number) {
    const found = data.check.findings;
    if (number !== undefined && found[number]) side(make("h2", {}, "Finding " + (+number + 1)), findingText(+number));
    return found.length === 0 ? make("p", {class: "good"}, "Nothing is wrong with this plan.")
      : [mending, table(["number", "finding", "line", "what is wrong", "remedy"], found.map((each, i) => [each, i]),
          ([each, i]) => [link(["findings", String(i)], "!" + (i + 1)),
            make("span", {class: each.severity === "error" ? "bad" : ""}, each.severity + " " + each.finding), String(each.at.line),
            each.explanation, make("span", {class: "mono"}, each.remedy || "")])];
  },
  ask: (from, to) => askView(from, to),
  expectations() {
    return table(["met", "from", "to", "asked", "expected", "line", "what happens"], data.expectations, each =>
      [make("span", {class: each.passed ? "good" : "bad"}, each.passed ? "\u2713 met" : "\u2715 not met"), each.from, each.to,
       each.service || "ping", each.gets, String(each.at.line), each.explanation || ""]);
  },
  addresses() {
    return table(["site", "segment", "prefix", "gateway", "DHCP", "used", "free", "how full"], data.addresses.prefixes, each => {
      const share = each.used / (each.used + each.free);
      return [each.site, link(["segment", each.segment], each.segment), each.prefix, each.gateway || "",
        each.dhcp ? each.dhcp.first + "-" + each.dhcp.last : "", String(each.used), String(each.free),
        make("span", {class: "bar", role: "img", "aria-label": Math.round(100 * share) + " % used"},
          Object.assign(make("i"), {style: "width:" + (100 * share).toFixed(1) + "%"}))];
    });
  },
  machines() {
    return table(["machine", "kind", "state", "NICs"], data.machines, machine => [link(["machine", machine.machine], machine.machine),
      machine.kind, machine.state, machine.nics.map(nic => [make("span", {class: "mono"}, nic.name + " " + nic.segment + " "
        + nic.addresses.map(each => each.address).join(" ")), make("br")]).flat()]);
  },
  cuts(name, from, to) {
    const under = data.cuts.find(each => each.cut === name);
    if (!under) {
      shownMatrix = null;
      return [notes(), table(["cut", "pairs that lose their reply"], data.cuts,
        each => [link(["cuts", each.cut], each.cut), String(each.lost.length)])];
    }
    return matrixView(under, from, to, () => make("p", {}, make("strong", {}, "without " + under.cut), ": " + under.lost.length
      + " pairs lose their reply (\u2715). ", link(["picture", shownView(), under.cut], "in the picture"), " ", link(["cuts"], "all cuts")));
  },
};

// Null if the matrix stands there already.
function matrixView(under, from, to, heading) {
  const [row, column] = [endOf.get(from), endOf.get(to)];
  if (row !== undefined && column !== undefined) showPair(row, column, under);
  const isShown = shownMatrix !== null && shownMatrix.under === under;
  if (!isShown) shownMatrix = matrix(under);
  shownMatrix.choose(row, column);
  return isShown ? null : [heading(), shownMatrix.element];
}

// --- the picture -----------------------------------------------------------------------------------

let pictures = [...document.querySelectorAll(".picture")];
let picture = null;
let drawnCut; // the cut that the picture is shown under, if any
// What a text of the picture names: the machine of a row such as desk/eth0.
const nameIn = text => text.textContent.split("/")[0];
const shownView = () => (picture || pictures[0]).dataset.view;

// What a place of the picture tells of: a machine by its row or card, or a segment.
function thingAt(place) {
  const group = place.closest("g[id]");
  const [, kind, name] = group ? group.id.match(/^(machine|segment)-(.*)/) || [] : [];
  const row = place.tagName === "text" ? nameIn(place) : "";
  if (kind === "segment" && machineOf.has(row)) return ["machine", row];
  return kind ? [kind, name] : null;
}

// Cut lines are broken and crossed, cards that are off too, who loses replies is underlined.
function drawCut(svg) {
  svg.querySelectorAll(".cut-sign").forEach(each => each.remove());
  svg.querySelectorAll(".is-cut").forEach(each => each.classList.remove("is-cut"));
  svg.querySelectorAll(".loses").forEach(each => each.classList.remove("loses"));
  if (!drawnCut) return;
  const changed = drawnCut.drawn[picture.dataset.view] || {lines: [], cards: []};
  for (const number of changed.lines) {
    const group = svg.querySelector(`[data-line="${number}"]`);
    const path = group && group.querySelector(".line");
    if (!path) continue;
    group.classList.add("is-cut");
    const [at, next] = [0.5, 0.51].map(share => path.getPointAtLength(share * path.getTotalLength()));
    const sign = document.createElementNS(svg.namespaceURI, "path");
    sign.setAttribute("class", "sign cut-sign");
    sign.setAttribute("d", "M-9 -9L9 9M-9 9L9 -9");
    sign.setAttribute("transform", `translate(${at.x} ${at.y}) rotate(${Math.atan2(next.y - at.y, next.x - at.x) * 180 / Math.PI})`);
    group.append(sign);
  }
  for (const id of changed.cards) {
    const card = svg.getElementById(id);
    if (card) card.classList.add("is-cut");
  }
  const losers = lossesOf();
  for (const group of svg.querySelectorAll("g[id]")) {
    const [title, ...rows] = group.querySelectorAll("text");
    title.classList.toggle("loses", losers.has(group.id.replace(/^machine-/, "")));
    rows.forEach(text => text.classList.toggle("loses", losers.has(nameIn(text))));
  }
}

// Machines and of how many others they no longer get replies under a cut.
function lossesOf() {
  const losers = new Map();
  for (const pair of drawnCut.lost) {
    const name = data.ends[Math.floor(pair / size)].machine;
    losers.set(name, (losers.get(name) || 0) + 1);
  }
  return losers;
}

function showCut() {
  const rows = [...lossesOf()].sort((one, other) => other[1] - one[1]);
  side(make("h2", {}, "without " + drawnCut.cut),
    make("p", {}, drawnCut.lost.length + " pairs lose their reply. ", link(["cuts", drawnCut.cut], "in the matrix")),
    make("p", {class: "faint"}, "Crossed: what no longer works. Underlined: who loses replies."),
    rows.length > 0 ? table(["machine", "gets no reply from"], rows, ([name, count]) =>
      [link(["machine", name], name), counted(count, "other")]) : null);
  followed = {machines: new Set(), chosen: null};
}
const counted = (count, noun) => count + " " + noun + (count === 1 ? "" : "s");

function pictureTools(svg) {
  const choices = [["", "nothing"], ...data.cuts.map(each => [each.cut, each.cut])];
  const without = make("select", {on: {change: event => go(["picture", shownView(), event.target.value].filter(word => word !== ""))}},
    choices.map(([value, text]) => make("option", {value, selected: value === (drawnCut ? drawnCut.cut : "")}, text)));
  byId("picture-tools").replaceChildren(
    ...pictures.map(each => make("button", {"aria-pressed": each === picture,
      on: {click: () => go(["picture", each.dataset.view, ...(drawnCut ? [drawnCut.cut] : [])])}}, each.dataset.view)),
    make("button", {"aria-label": "larger", on: {click: () => zoom(0.8)}}, "+"),
    make("button", {"aria-label": "smaller", on: {click: () => zoom(1.25)}}, "\u2212"),
    make("button", {on: {click: () => look(whole(svg))}}, "all of it"),
    data.cuts.length > 0 ? make("label", {}, "without ", without) : "",
    isLive ? make("button", {"aria-pressed": picking !== null, on: {click: () => { picking = picking ? null : []; pictureTools(svg); }}},
      "ask between two machines") : "",
    make("span", {role: "status"}, picking === null ? "" : picking.length === 0 ? "choose the one that asks" : picking[0] + ": choose whom it asks"));
}

function showPicture(view) {
  picture = pictures.find(each => each.dataset.view === view) || pictures[0];
  pictures.forEach(each => { each.hidden = each !== picture; });
  const svg = picture.querySelector("svg");
  pictureTools(svg);
  drawCut(svg);
  for (const group of svg.querySelectorAll("g[id]")) {
    const name = group.id.replace(/^(machine|segment|switch|site)-/, "");
    const rows = [...group.querySelectorAll("text")].map(nameIn);
    const isOnWay = followed.machines.has(name) || rows.some(row => followed.machines.has(row));
    group.classList.toggle("on-way", isOnWay);
    group.classList.toggle("chosen", group.id === followed.chosen);
  }
  const shown = [...svg.querySelectorAll("g.chosen, g.on-way")].map(group => group.getBBox());
  if (shown.length > 0) {
    const left = Math.min(...shown.map(each => each.x)), top = Math.min(...shown.map(each => each.y));
    const width = Math.max(...shown.map(each => each.x + each.width)) - left;
    const height = Math.max(...shown.map(each => each.y + each.height)) - top;
    const margin = Math.max(60, (900 - width) / 2);
    look([left - margin, top - margin, width + 2 * margin, height + 2 * margin]);
  } else {
    look(seen.get(svg) || whole(svg));
  }
  picture.classList.toggle("following", followed.machines.size > 0 || followed.chosen !== null);
}

// What the frame shows of each picture: left, top, width, height. The picture itself stays as it
// is and is moved and scaled as a whole: to lay out its texts anew would take too long.
const seen = new WeakMap();
const whole = svg => svg.getAttribute("viewBox").split(" ").map(Number);
function look(part) {
  const svg = picture.querySelector("svg");
  seen.set(svg, part);
  const [left, top, width, height] = part;
  const scale = Math.min(frame.clientWidth / width, frame.clientHeight / height);
  svg.style.transform = `translate(${frame.clientWidth / 2 - (left + width / 2) * scale}px, ${frame.clientHeight / 2 - (top + height / 2) * scale}px) scale(${scale})`;
}
function zoom(factor, x = 0.5, y = 0.5) {
  const [left, top, width, height] = seen.get(picture.querySelector("svg"));
  look([left + width * (1 - factor) * x, top + height * (1 - factor) * y, width * factor, height * factor]);
}
function pan(x, y) {
  const [left, top, width, height] = seen.get(picture.querySelector("svg"));
  look([left + x * width, top + y * height, width, height]);
}

const frame = byId("frame");
new ResizeObserver(() => {
  const svg = picture && picture.querySelector("svg");
  if (svg && seen.has(svg) && tab === "picture") look(seen.get(svg));
}).observe(frame);
frame.addEventListener("wheel", event => {
  const at = frame.getBoundingClientRect();
  zoom(event.deltaY > 0 ? 1.1 : 0.9, (event.clientX - at.left) / at.width, (event.clientY - at.top) / at.height);
  event.preventDefault();
}, {passive: false});
frame.addEventListener("keydown", event => {
  const move = {ArrowUp: [0, -0.1], ArrowDown: [0, 0.1], ArrowLeft: [-0.1, 0], ArrowRight: [0.1, 0]}[event.key];
  if (move) pan(...move);
  else if (event.key === "+") zoom(0.8);
  else if (event.key === "-") zoom(1.25);
  else return;
  event.preventDefault();
});
let held = null;
frame.addEventListener("pointerdown", event => { held = {x: event.clientX, y: event.clientY, moved: false}; });
window.addEventListener("pointerup", () => { held = null; });
frame.addEventListener("pointermove", event => {
  if (!held) return;
  const at = frame.getBoundingClientRect();
  pan((held.x - event.clientX) / at.width, (held.y - event.clientY) / at.height);
  held = {x: event.clientX, y: event.clientY, moved: true};
});
let picking = null; // while two machines are chosen to ask between: those that are
frame.addEventListener("click", event => {
  const thing = thingAt(event.target);
  if (thing === null) return;
  if (picking === null || thing[0] !== "machine") return go(thing);
  picking.push(thing[1]);
  if (picking.length === 1) return show();
  const [from, to] = picking;
  picking = null;
  go(["ask", from, to]);
});

// --- search ------------------------------------------------------------------------------------------

const things = () => [
  ...data.machines.map(each => [each.machine, ["machine", each.machine]]),
  ...data.machines.flatMap(each => each.nics.flatMap(nic => nic.addresses.map(address =>
    [address.address + " " + each.machine + "/" + nic.name, ["machine", each.machine]]))),
  ...data.addresses.prefixes.map(each => [each.segment + " " + each.prefix, ["segment", each.segment]]),
  ...data.check.findings.map((each, i) => [each.finding + " " + each.subject, ["findings", String(i)]]),
  ...data.cuts.map(each => ["without " + each.cut, ["cuts", each.cut]]),
];
byId("search").addEventListener("input", event => {
  const wanted = event.target.value.trim().toLowerCase();
  const found = wanted ? things().filter(([text]) => text.toLowerCase().includes(wanted)).slice(0, 30) : [];
  byId("found").replaceChildren(...found.map(([text, words]) => make("li", {}, link(words, text))),
    ...(wanted && found.length === 0 ? [make("li", {class: "faint"}, "nothing of that name")] : []));
  byId("found").hidden = wanted === "";
});
byId("search").addEventListener("keydown", event => {
  const first = byId("found").querySelector("a");
  if (event.key === "Enter" && first) first.click();
  if (event.key === "Escape") byId("found").hidden = true;
});
byId("found").addEventListener("click", () => { byId("found").hidden = true; });

// --- the server, if the page came from one -------------------------------------------------------------

async function asked(path, options) {
  const answer = await fetch(path, options);
  const said = await answer.json();
  if (!answer.ok) throw new Error(said.error);
  return said;
}

// Waits for what is newer, and takes it in where the reader is.
async function follow() {
  for (let version = 0, reading = 0;;) {
    try {
      const newer = await asked("version?after=" + version);
      if (newer.reading !== reading) mending = mendTools();
      reading = newer.reading;
      byId("problems").textContent = newer.problems;
      byId("problems").hidden = newer.problems === "";
      if (newer.version !== version && newer.problems === "") {
        const page = new DOMParser().parseFromString(await (await fetch("./")).text(), "text/html");
        const view = picture && picture.dataset.view;
        load(page.getElementById("data").textContent);
        pictures.forEach(each => each.remove());
        pictures = [...page.querySelectorAll(".picture")].map(each => document.adoptNode(each));
        frame.append(...pictures);
        picture = pictures.find(each => each.dataset.view === view) || pictures[0];
        if (tab !== "ask") show();
      }
      version = newer.version;
    } catch (error) {
      byId("problems").textContent = "The server does not answer: " + error.message;
      byId("problems").hidden = false;
      await new Promise(done => setTimeout(done, 1000));
    }
  }
}

// What is asked, and what besides the two ends it takes.
const questions = {
  ping: {path: "api/ping", fields: ["cut"]},
  trace: {path: "api/trace", fields: ["cut"]},
  connection: {path: "api/connect", fields: ["service", "cut"]},
  timeline: {path: "api/timeline", fields: ["count", "interval", "cut-at", "mend-at"]},
};
const fieldLabels = {service: ["service", "tcp/22"], cut: ["without", "a cut"], count: ["pings", "60"], interval: ["one every", "1s"],
  "cut-at": ["cut at", "10s=WHAT"], "mend-at": ["mended at", "40s=WHAT"]};

const pingAnswer = said => [
  make("h2", {class: said.cause ? "bad" : "good"}, said.verdict + (said.cause ? ": " + said.cause : "")),
  said.explanation ? make("p", {}, said.explanation) : "", make("h3", {}, "The way there"), wayList(said.out),
  make("h3", {}, "The way back"), wayList(said.back)];

const answers = {
  ping: pingAnswer,
  connection: pingAnswer,
  trace: said => [table(["TTL", "machine", "address", "says", "round trip"], said.hops, hop => [String(hop.ttl), hop.machine,
    hop.address || "*", hop.says || "nothing", hop.rtt_ms === null ? "" : hop.rtt_ms + " ms"]), pingAnswer(said.ping)],
  timeline: said => {
    const seconds = time => +(time / 1000).toFixed(3) + " s";
    const until = Math.max(1, ...said.stretches.map(each => each.until_ms));
    const part = each => Object.assign(make("i", {class: each.received === 0 ? "out-of-reach" : each.received < each.sent ? "in-part" : "",
      title: seconds(each.from_ms) + " to " + seconds(each.until_ms) + ": " + each.received + " of " + each.sent}),
      {style: "width:" + 100 * (each.until_ms - each.from_ms) / until + "%"});
    return [make("h2", {class: said.received === said.sent ? "good" : "bad"}, said.received + " of " + said.sent + " came back"),
      make("p", {}, said.longest_outage_ms === 0 ? "nothing was out of reach" : "out of reach for " + seconds(said.longest_outage_ms) + " at the longest"
        + (said.outage_of_daemons_ms[0] === said.outage_of_daemons_ms[1] ? "" : "; between real daemons " + said.outage_of_daemons_ms.map(seconds).join(" to "))),
      make("div", {class: "strip", role: "img", "aria-label": "replies over " + seconds(until)}, said.stretches.map(part)),
      make("ul", {}, said.events.map(each => make("li", {}, seconds(each.at_ms) + " " + each.does + " " + each.what))),
      table(["from", "until", "pings", "came back", "way there", "cause"], said.stretches, each => [seconds(each.from_ms), seconds(each.until_ms),
        String(each.sent), String(each.received), each.received === 0 ? "" : each.out.join(" \u2192 "), each.cause || ""])];
  },
};

function askView(asks, isAsked) {
  const answer = make("div", {"aria-live": "polite"});
  const kind = make("select", {name: "kind"}, Object.keys(questions).map(each => make("option", {}, each)));
  const end = (name, value) => make("label", {}, name + " ", make("input", {name, list: "names", autocomplete: "off", value: value || "", size: 16}));
  const others = make("span");
  const form = make("form", {}, make("datalist", {id: "names"}, data.machines.map(each => make("option", {value: each.machine}))),
    make("label", {}, "ask for a ", kind), end("from", asks), end("to", isAsked), others, make("button", {}, "ask"));
  const choose = () => others.replaceChildren(...questions[kind.value].fields.map(name => make("label", {}, fieldLabels[name][0] + " ",
    make("input", {name, size: name === "count" || name === "interval" ? 6 : 24, placeholder: fieldLabels[name][1], autocomplete: "off"}))));
  kind.addEventListener("change", choose);
  choose();
  const ask = async () => {
    const words = new URLSearchParams([...new FormData(form)].filter(([name, value]) => value !== "" && name !== "kind"));
    const wanted = kind.value;
    try {
      answer.replaceChildren(...answers[wanted](await asked(questions[wanted].path + "?" + words)).flat());
    } catch (error) {
      answer.replaceChildren(make("p", {class: "bad"}, error.message));
    }
  };
  form.addEventListener("submit", event => {
    event.preventDefault();
    ask();
  });
  if (asks && isAsked) ask();
  return [form, answer];
}

let mending = null; // what asks for changes and shows them, as long as the file is the same
function mendTools() {
  const answer = make("div", {"aria-live": "polite"});
  const show = make("button", {}, "what would mend this plan");
  show.addEventListener("click", async () => {
    answer.replaceChildren(make("p", {}, "looking for the smallest set of changes"));
    try {
      const said = await asked("api/mend");
      const write = make("button", {}, "write it into the plan");
      write.addEventListener("click", async () => {
        try {
          await asked("api/mend", {method: "POST", body: said.difference});
          answer.replaceChildren(make("p", {class: "good"}, "written"));
        } catch (error) {
          answer.replaceChildren(make("p", {class: "bad"}, error.message));
        }
      });
      answer.replaceChildren(said.difference ? make("pre", {class: "mono"}, said.difference) : make("p", {}, said.healthy ? "nothing is to be mended" : "no set of changes is known that mends all of it"),
        said.difference ? write : "");
    } catch (error) {
      answer.replaceChildren(make("p", {class: "bad"}, error.message));
    }
  });
  return make("div", {}, show, answer);
}

// --- all of it ---------------------------------------------------------------------------------------

const tabs = () => [["picture", "Picture"], ["reach", "Reach"], ["findings", `Findings (${data.check.findings.length})`],
  ["expectations", `Expectations (${data.expectations.length})`], ["addresses", "Addresses"], ["machines", "Machines"], ["cuts", "Cuts"],
  ...(isLive ? [["ask", "Ask"]] : [])];
let tab = "picture";

function show() {
  const [kind, ...rest] = state();
  if (kind === "machine") showMachine(rest[0]);
  if (kind === "segment") showSegment(rest[0]);
  if (kind === "" || kind === "picture" || views[kind]) tab = kind || "picture";
  byId("tabs").replaceChildren(...tabs().map(([name, text]) =>
    make("a", {href: "#" + name, "aria-current": name === tab ? "page" : null}, text)));
  byId("view-picture").inert = byId("view-picture").hidden = tab !== "picture";
  byId("view").hidden = tab === "picture";
  if (kind === "picture" || kind === "") drawnCut = data.cuts.find(each => each.cut === rest[1]);
  if (drawnCut && kind === "picture") showCut();
  if (tab === "picture") showPicture(kind === "picture" ? rest[0] : picture && picture.dataset.view);
  else if (views[kind]) {
    if (kind !== "reach" && kind !== "cuts") shownMatrix = null;
    const shown = views[kind](...rest);
    if (shown !== null) byId("view").replaceChildren(...[shown].flat(3).filter(child => child !== null));
  }
}

// Takes the data of a page: this one, or a newer one from the server.
function load(text) {
  data = JSON.parse(text);
  size = data.ends.length;
  machineOf = new Map(data.machines.map(machine => [machine.machine, machine]));
  endOf = new Map(data.ends.map((end, number) => [end.label, number]));
  shownMatrix = null;
  drawnCut = drawnCut && data.cuts.find(each => each.cut === drawnCut.cut);
  byId("lab").textContent = data.lab;
  byId("about").textContent = data.about;
  const met = data.expectations.filter(each => each.passed).length;
  const strong = text => make("strong", {}, text);
  byId("verdict").replaceChildren(strong(`${data.check.pairs_answered} of ${data.check.pairs_asked}`), " pings between machines get a reply; ",
    strong(`${data.check.findings.length}`), data.check.findings.length === 1 ? " finding; " : " findings; ", strong(`${met} of ${data.expectations.length}`), " expectations met");
}

load(byId("data").textContent);
window.addEventListener("hashchange", show);
show();
if (isLive) follow();
