// Tables sort by a click on a heading (again: the other way) and search by the field above them.
// Choosing a model, class, predictor, row or part shows what belongs to it, in the whole page.
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
})();
