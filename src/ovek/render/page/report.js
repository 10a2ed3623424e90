"use strict";
(() => {
  const $ = (id) => document.getElementById(id);
  // Every text goes in as text: nothing that comes from a device or a file is ever markup.
  const el = (tag, more, ...inside) => {
    const made = document.createElement(tag);
    for (const [key, value] of Object.entries(more || {})) {
      if (value !== null && value !== undefined && value !== false) made.setAttribute(key, value);
    }
    made.append(...inside.filter((each) => each !== null && each !== undefined && each !== ""));
    return made;
  };

  // ---- what there is to say of each device, unpacked once ----
  let all = null;
  const devices = () => {
    if (all === null) {
      const packed = $("data").textContent.trim();
      const bytes = Uint8Array.from(atob(packed), (each) => each.charCodeAt(0));
      const stream = new Blob([bytes]).stream().pipeThrough(new DecompressionStream("gzip"));
      all = new Response(stream).json();
    }
    return all;
  };

  const mark = {falls: "✗", boots: "✓", unknown: "?"};
  const tone = {falls: "t-no-go", boots: "t-go", unknown: "t-unclear"};
  const ends = {proven: "boots", unproven: "unknown", unknown: "unknown", stranded: "falls"};

  const walk = (one) => el("div", {},
    one.member !== null ? el("h4", {}, `Member ${one.member}`) : null,
    one.live ? el("p", {class: "t-unclear"}, "Saved boot settings unknown; the live ones are used here.") : null,
    el("ol", {class: "path"},
      ...one.steps.map(([kind, origin, place, result, why]) => el("li", {"data-m": mark[kind], class: tone[kind]},
        el("b", {}, `${origin}: ${place} `), `${result}. `, el("span", {class: "why"}, why))),
      el("li", {"data-m": mark[ends[one.outcome]], class: `end ${tone[ends[one.outcome]]}`}, `${one.outcome}: ${one.ends}`, one.note ? el("span", {class: "why"}, `. ${one.note}`) : null)),
    ...one.rescue.map((each) => el("p", {}, `Recover: boot ${each} by hand at the boot loader.`)));

  const flash = (one) => el("div", {},
    el("p", {}, el("b", {}, one.name), ` ${one.told}`, one.needs ? el("span", {class: one.short ? "t-no-go" : "t-go"}, `; ${one.needs}`) : null),
    el("div", {class: "flash", role: "img", "aria-label": `${one.name} ${one.told}: ${one.parts.map((p) => `${p[1]} ${p[2]}`).join(", ")}`},
      ...one.parts.map(([number, content, size, share]) => el("span", {class: `c${number}`, style: `width:${share / 10}%`, title: `${content}: ${size}`})),
      one.line !== null ? el("i", {class: one.short ? "" : "fits", style: `left:${Math.max(0, one.line) / 10}%`, title: one.needs}) : null),
    el("ul", {class: "key"}, ...one.parts.map(([number, content, size]) => el("li", {}, el("b", {class: `c${number}`}), `${content} ${size}`)),
      el("li", {}, el("b", {}), "free"),
      one.line !== null ? el("li", {}, "line: what is used has to end here for the target") : null));

  const image = (one) => el("div", {class: "image"},
    el("p", {}, el("b", {}, one.place), ` ${one.size}${one.needed ? "; in use" : ""}`),
    el("p", {class: one.verdict === "proven" ? "t-go" : ["altered", "truncated"].includes(one.verdict) ? "t-no-go" : "t-unclear"},
      `${one.verdict}${one.proof ? ` ${one.proof}` : ""}${one.release ? `: ${one.release}` : ""}`),
    el("p", {class: "why"}, one.why, one.read ? `; ${one.read}` : ""),
    ...one.digests.map(([name, digest]) => el("p", {class: "digest"}, `${name} ${digest}`)));

  const finding = ([severity, rule, place, saw, words, waived]) => el("div", {class: `find s-${severity}`},
    el("p", {}, el("b", {}, `${waived ? "waived" : severity}: ${rule}`), place ? ` at ${place}` : ""),
    el("p", {}, `seen: ${saw}`), el("p", {}, `do: ${words}`), waived ? el("p", {class: "why"}, `waived ${waived}`) : null);

  const book = (one) => el("div", {},
    el("p", {}, `${one.head} ${one.safe} ${one.stands}.`),
    one.danger ? el("p", {class: "t-no-go"}, el("b", {}, "DANGER: "), one.danger) : "",
    ...one.find.map((each) => el("p", {class: "t-unclear"}, `missing fact: ${each}`)),
    one.steps.length ? el("ol", {class: "steps"}, ...one.steps.map(([stage, words, details]) => el("li", {},
      el("b", {}, words), ` (${stage})`,
      el("dl", {}, ...details.flatMap(([name, told]) => [el("dt", {}, name), el("dd", {}, name === "type" ? el("code", {}, told) : told)]))))) : null,
    ...one.open.map(([rule, place, saw, words]) => el("div", {class: "find"}, el("p", {}, `Open problem, not fixed by a step: ${rule}${place ? ` at ${place}` : ""}: ${saw}`), el("p", {}, `do: ${words}`))));

  const draw = async (box) => {
    const inside = box.querySelector(".device");
    if (inside.childElementCount) return;
    const one = (await devices())[Number(box.dataset.d)];
    if (inside.childElementCount) return;
    inside.append(
      el("p", {class: "why"}, one.head),
      one.unread ? el("p", {class: "t-unclear"}, `Not read by the last survey: ${one.unread}. Shown as last read.`) : "",
      one.why ? el("p", {}, el("b", {}, `${one.why}.`)) : "",
      el("h3", {}, "Next boot"), el("p", {}, `${one.next_boot}: ${one.summary}.`), ...one.walk.map(walk),
      el("h3", {}, "Findings"), ...(one.findings.length ? one.findings.map(finding) : [el("p", {}, "None.")]),
      el("h3", {}, "Steps left"), book(one.book),
      el("h3", {}, "Images"), ...(one.images.length ? one.images.map(image) : [el("p", {}, "No known image.")]),
      el("h3", {}, "Flash"), ...(one.flash.length ? one.flash.map(flash) : [el("p", {}, "No known volume.")]),
      one.evidence.length ? el("h3", {}, "Evidence") : "",
      ...one.evidence.map(([name, sha256]) => el("p", {class: "digest"}, `SHA-256 ${sha256}  ${name}`)));
  };
  document.addEventListener("toggle", (event) => { if (event.target.open) draw(event.target); }, true);

  // ---- a link to a device opens it ----
  const opened = async () => {
    const box = document.getElementById(location.hash.slice(1));
    if (box && box.tagName === "DETAILS") {
      box.hidden = false;
      box.open = true;
      await draw(box);
      box.scrollIntoView();
      box.querySelector("summary").focus({preventScroll: true});
    }
  };
  addEventListener("hashchange", opened);
  opened();

  // ---- the table ----
  const table = $("t-fleet");
  if (!table) return;
  const body = table.tBodies[0];
  const boxes = new Map([...document.querySelectorAll("#devices details")].map((box) => [box.dataset.d, box]));
  const rows = [...body.rows].map((row) => ({
    row, text: row.textContent.toLowerCase(), answer: row.cells[1].dataset.s, site: row.cells[7].textContent,
    role: row.cells[8].textContent, box: boxes.get(row.dataset.d),
  }));
  for (const key of ["site", "role"]) {
    const values = [...new Set(rows.map((each) => each[key]))].filter(Boolean).sort();
    $(`f-${key}`).append(...values.map((each) => el("option", {}, each)));
  }
  const filter = () => {
    const words = $("f-text").value.toLowerCase().split(/\s+/).filter(Boolean);
    const [answer, site, role] = ["answer", "site", "role"].map((key) => $(`f-${key}`).value);
    let number = 0;
    for (const each of rows) {
      const shown = words.every((word) => each.text.includes(word)) && (!answer || each.answer === answer)
        && (!site || each.site === site) && (!role || each.role === role);
      if (each.row.hidden === shown) {
        each.row.hidden = !shown;
        if (each.box) each.box.hidden = !shown;
      }
      number += shown;
    }
    $("f-number").textContent = number === rows.length ? `${number} devices` : `${number} of ${rows.length} devices`;
  };
  document.querySelector(".filters").addEventListener("input", filter);
  document.querySelector(".filters").addEventListener("submit", (event) => event.preventDefault());

  const order = new Intl.Collator("en", {numeric: true});
  const rank = {"no-go": "0", unclear: "1", go: "2"};
  const value = (row, at) => {
    const told = row.cells[at].dataset.s ?? row.cells[at].textContent;
    return rank[told] ?? told;
  };
  const heads = [...table.tHead.rows[0].cells];
  heads.forEach((head, at) => head.firstElementChild.addEventListener("click", () => {
    const down = head.getAttribute("aria-sort") === "ascending";
    for (const each of heads) each.setAttribute("aria-sort", each === head ? (down ? "descending" : "ascending") : "none");
    const keyed = rows.map((each) => [value(each.row, at), each.row]);
    keyed.sort((one, other) => order.compare(one[0], other[0]) * (down ? -1 : 1));
    body.append(...keyed.map(([, row]) => row));
  }));
})();
