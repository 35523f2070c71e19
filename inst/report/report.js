// Tables sort by a click on a heading (again: the other way) and search by the field above them.
// Choosing a model, class, predictor, row or part shows what belongs to it, in the whole page.
// Pointing at a mark of a figure says what the table behind it says there.
(function () {
  "use strict";
  function value(cell) {
    if (cell.classList.contains("number")) {
      var v = cell.getAttribute("data-value");
      return v === "" ? null : Number(v);
    }
    return cell.textContent;
  }
  function compare(a, b) {
    if (a === null || b === null) return (a === null) - (b === null);
    return typeof a === "number" ? a - b : a.localeCompare(b);
  }
  function sortBy(table, column, heading) {
    var down = heading.getAttribute("aria-sort") === "ascending";
    table.querySelectorAll("th").forEach(function (th) { th.removeAttribute("aria-sort"); });
    heading.setAttribute("aria-sort", down ? "descending" : "ascending");
    var rows = Array.from(table.tBodies[0].rows);
    rows.sort(function (r, s) {
      var a = value(r.cells[column]), b = value(s.cells[column]);
      if (a === null || b === null) return compare(a, b);   // empty ones stay last
      return down ? compare(b, a) : compare(a, b);
    });
    rows.forEach(function (r) { table.tBodies[0].appendChild(r); });
  }
  document.querySelectorAll(".table").forEach(function (box) {
    var table = box.querySelector("table");
    table.querySelectorAll("th").forEach(function (th, i) {
      th.querySelector("button").addEventListener("click", function () { sortBy(table, i, th); });
    });
    var field = box.querySelector("input");
    if (field) field.addEventListener("input", function () {
      var wanted = field.value.toLowerCase();
      Array.from(table.tBodies[0].rows).forEach(function (r) {
        r.hidden = r.textContent.toLowerCase().indexOf(wanted) < 0;
      });
    });
  });
  function choose(kind, wanted) {
    document.querySelectorAll("select[data-kind=" + kind + "]").forEach(function (field) {
      var known = Array.from(field.options).some(function (o) { return o.value === wanted; });
      if (!known) return;
      field.value = wanted;
      Array.from(field.closest(".choice").children).forEach(function (view) {
        if (view.hasAttribute("data-" + kind)) {
          view.hidden = view.getAttribute("data-" + kind) !== wanted;
        }
      });
    });
    document.querySelectorAll("tr[data-" + kind + "]").forEach(function (row) {
      row.classList.toggle("chosen", row.getAttribute("data-" + kind) === wanted);
    });
  }
  document.querySelectorAll("select[data-kind]").forEach(function (field) {
    field.addEventListener("change", function () {
      choose(field.getAttribute("data-kind"), field.value);
    });
  });
  document.querySelectorAll("tr[data-predictor]").forEach(function (row) {
    row.addEventListener("click", function () {
      choose("predictor", row.getAttribute("data-predictor"));
    });
  });
  // The rows of a table by the words that stand at the figure's axis.
  function rowsByKey(table, column) {
    var found = new Map();
    Array.from(table.tBodies[0].rows).forEach(function (row) {
      var key = row.cells[column].textContent;
      if (!found.has(key)) found.set(key, []);
      found.get(key).push(row);
    });
    return found;
  }
  function centre(text) {
    var box = text.getBoundingClientRect();
    return { x: (box.left + box.right) / 2, y: (box.top + box.bottom) / 2 };
  }
  // Names at the axis may be cut, or have a value behind them.
  function keyOf(text, keys) {
    var word = text.trim().replace(/^[0-9]+ +[+] +/, "");
    if (word.length < 2) return null;
    if (keys.indexOf(word) >= 0) return word;
    var cut = word.replace(/(\u2026| and [0-9]+ more).*$/, "");
    var like = keys.filter(function (k) {
      var longer = word.indexOf(k) === 0 && /[ ,]/.test(word.charAt(k.length));
      return longer || (cut.length >= 4 && k.indexOf(cut) === 0);
    });
    return like.length === 1 ? like[0] : null;
  }
  // Where each key stands along the axis, in pixels of the screen.
  function placesOfNames(svg, keys, along) {
    var places = [];
    svg.querySelectorAll("text").forEach(function (text) {
      var key = keyOf(text.textContent, keys);
      if (key !== null) places.push({ key: key, at: centre(text)[along] });
    });
    return places;
  }
  function numberIn(text) {
    var plain = text.replace(/,/g, "").replace("\u2212", "-");
    return /^-?[0-9.]+$/.test(plain) ? Number(plain) : null;
  }
  // Keys that are numbers stand where the scale of the lowest line of numbers says.
  function placesOfNumbers(svg, keys) {
    var lines = new Map();
    svg.querySelectorAll("text").forEach(function (text) {
      var value = numberIn(text.textContent);
      if (value === null) return;
      var at = centre(text), line = Math.round(at.y);
      if (!lines.has(line)) lines.set(line, []);
      lines.get(line).push({ x: at.x, value: value });
    });
    var scale = null;
    Array.from(lines.keys()).sort(function (a, b) { return b - a; }).some(function (y) {
      var ticks = lines.get(y).sort(function (a, b) { return a.x - b.x; });
      var first = ticks[0], last = ticks[ticks.length - 1];
      if (ticks.length < 2 || first.value >= last.value) return false;
      scale = function (v) {
        return first.x + (v - first.value) * (last.x - first.x) / (last.value - first.value);
      };
      return true;
    });
    if (scale === null) return [];
    return keys.filter(function (k) { return numberIn(k) !== null; }).map(function (k) {
      return { key: k, at: scale(numberIn(k)) };
    });
  }
  function sayRows(table, column, rows) {
    var heads = Array.from(table.tHead.rows[0].cells).map(function (th) {
      return th.textContent;
    });
    return rows.slice(0, 6).map(function (row) {
      return Array.from(row.cells).map(function (cell, i) {
        var word = cell.textContent;
        if (i === column || word === "") return null;
        return i === 0 ? word : heads[i] + " " + word;
      }).filter(Boolean).join(", ");
    }).join("\n");
  }
  var note = document.createElement("div");
  note.className = "pointing";
  note.setAttribute("aria-hidden", "true");
  note.hidden = true;
  document.body.appendChild(note);
  document.querySelectorAll("figure table[data-by]").forEach(function (table) {
    var svg = table.closest("figure").querySelector("svg");
    var column = Array.from(table.tHead.rows[0].cells).findIndex(function (th) {
      return th.textContent === table.getAttribute("data-by");
    });
    var along = table.getAttribute("data-along");
    if (column < 0) return;
    var rows = rowsByKey(table, column), keys = Array.from(rows.keys());
    function point(event) {
      var numbers = along === "x" && keys.every(function (k) { return numberIn(k) !== null; });
      var places = numbers ? placesOfNumbers(svg, keys) : placesOfNames(svg, keys, along);
      var here = along === "x" ? event.clientX : event.clientY;
      var best = null, other = Infinity;
      places.forEach(function (p) {
        var apart = Math.abs(p.at - here);
        if (best === null || apart < best.apart) best = { key: p.key, apart: apart };
      });
      places.forEach(function (p, i) {
        places.slice(i + 1).forEach(function (q) {
          var gap = Math.abs(p.at - q.at);
          if (gap > 1) other = Math.min(other, gap);
        });
      });
      // Beside the axis' own range nothing is meant.
      var far = along === "x" ? 80 : Math.max(12, other < Infinity ? 0.55 * other : 40);
      note.hidden = best === null || best.apart > far;
      if (note.hidden) return;
      var name = document.createElement("strong");
      name.textContent = best.key;
      note.replaceChildren(name, "\n" + sayRows(table, column, rows.get(best.key)));
      var width = note.offsetWidth, height = note.offsetHeight;
      var left = Math.min(event.clientX + 14, document.documentElement.clientWidth - width - 4);
      var above = event.clientY - height - 10;
      note.style.left = Math.max(4, left) + "px";
      note.style.top = (above > 4 ? above : event.clientY + 18) + "px";
    }
    svg.addEventListener("pointermove", point);
    svg.addEventListener("pointerdown", point);
    svg.addEventListener("pointerleave", function () { note.hidden = true; });
  });
})();
