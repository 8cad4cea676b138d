(() => {
  "use strict";
  const words = [...document.querySelectorAll("#words span")];
  const starts = words.map(w => Number(w.dataset.ms) / 1000);
  const player = document.getElementById("player");
  const box = document.getElementById("search");
  const count = document.getElementById("count");

  // The word at a moment: the last that has begun.
  const wordAt = seconds => {
    let low = 0, high = starts.length;
    while (low < high) {
      const middle = (low + high) >> 1;
      if (starts[middle] <= seconds) low = middle + 1; else high = middle;
    }
    return low - 1;
  };
  let marked = -1;
  const mark = () => {
    if (!player) return;
    // A player goes to the nearest frame, which may be a little before the word.
    const now = wordAt(player.currentTime + 0.02);
    if (now === marked) return;
    words[marked]?.classList.remove("now");
    marked = now;
    const word = words[now];
    if (!word) return;
    word.classList.add("now");
    const place = word.getBoundingClientRect();
    if (!player.paused && (place.top < 0 || place.bottom > innerHeight)) word.scrollIntoView({block: "center"});
  };
  if (player) {
    const follow = () => { mark(); if (!player.paused) requestAnimationFrame(follow); };
    player.addEventListener("play", follow);
    for (const e of ["timeupdate", "seeked"]) player.addEventListener(e, mark);
    document.getElementById("words").addEventListener("click", e => {
      const at = e.target.closest("[data-ms]");
      if (!at || !getSelection().isCollapsed) return;
      player.currentTime = Number(at.dataset.ms) / 1000;
      player.play().catch(() => {});
    });
  }

  // Search: runs of words that hold what is looked for, whatever its case and marks.
  const plain = s => s.toLowerCase().normalize("NFKD").replace(/[^\p{L}\p{N} ]/gu, "").trim();
  const bare = words.map(w => plain(w.textContent));
  let found = [], here = -1;
  const search = () => {
    for (const w of words) w.classList.remove("found", "here");
    found = [];
    here = -1;
    const wanted = plain(box.value).split(/\s+/).filter(w => w);
    if (wanted.length) {
      for (let i = 0; i + wanted.length <= bare.length; i++) {
        // The last word may be the beginning of one.
        const fits = wanted.every((w, n) => n + 1 < wanted.length ? bare[i + n] === w : bare[i + n].startsWith(w));
        if (!fits) continue;
        found.push(i);
        for (let n = 0; n < wanted.length; n++) words[i + n].classList.add("found");
      }
    }
    count.textContent = wanted.length ? (found.length ? "" : "not found") : "";
    if (found.length) step(1);
  };
  const step = by => {
    if (!found.length) return;
    words[found[here]]?.classList.remove("here");
    here = (here + by + found.length) % found.length;
    words[found[here]].classList.add("here");
    words[found[here]].scrollIntoView({block: "center"});
    count.textContent = `${here + 1} of ${found.length}`;
  };
  box.addEventListener("input", search);
  box.addEventListener("keydown", e => { if (e.key === "Enter") step(e.shiftKey ? -1 : 1); });
  document.getElementById("next").addEventListener("click", () => step(1));
  document.getElementById("before").addEventListener("click", () => step(-1));

  // Paragraphs with their timecodes: those that are selected, or all.
  const withTimes = () => {
    const chosen = getSelection();
    const some = !chosen.isCollapsed;
    return [...document.querySelectorAll("#words p[data-at]")].map(p => {
      const said = [...p.querySelectorAll("span")].filter(w => !some || chosen.containsNode(w, true));
      return said.length ? `${p.dataset.at}  ${said.map(w => w.textContent).join(" ")}` : "";
    }).filter(t => t).join("\n\n");
  };
  document.getElementById("copy").addEventListener("click", async e => {
    const text = withTimes();
    try {
      await navigator.clipboard.writeText(text);
    } catch {
      // A page that was opened as a file may not use the clipboard by itself.
      const area = document.createElement("textarea");
      area.value = text;
      document.body.append(area);
      area.select();
      document.execCommand("copy");
      area.remove();
    }
    e.target.textContent = "Copied";
    setTimeout(() => { e.target.textContent = "Copy with timecodes"; }, 1500);
  });
  window.transcript = {withTimes};
})();
