"use strict";
// Finds and sorts files in the table; without it the page still shows all of them.
{
  const table = document.getElementById("list");
  const body = table.tBodies[0];
  const rows = [...body.rows];
  const words = rows.map((row) => row.textContent.toLowerCase());
  const field = document.getElementById("find");
  const found = document.getElementById("found");

  const find = () => {
    const wanted = field.value.toLowerCase().split(/\s+/).filter(Boolean);
    let shown = 0;
    rows.forEach((row, place) => {
      row.hidden = !wanted.every((word) => words[place].includes(word));
      shown += !row.hidden;
    });
    const all = rows.length.toLocaleString("en");
    found.textContent = `${shown.toLocaleString("en")} of ${all} shown`;
  };
  field.addEventListener("input", find);
  document.getElementById("search").hidden = false;
  find();

  const valueIn = (row, column) => {
    const cell = row.cells[column];
    return cell.dataset.value ?? cell.textContent;
  };
  const sort = (head) => {
    const column = head.cellIndex;
    const turn = head.getAttribute("aria-sort") === "ascending" ? -1 : 1;
    const byNumber = head.classList.contains("number");
    const sorted = [...body.rows].sort((one, other) => {
      const [a, b] = [valueIn(one, column), valueIn(other, column)];
      if (a === "" || b === "") return (a === "") - (b === ""); // what is not known comes last
      return turn * (byNumber ? a - b : a < b ? -1 : a > b ? 1 : 0);
    });
    for (const each of table.tHead.rows[0].cells) each.removeAttribute("aria-sort");
    head.setAttribute("aria-sort", turn === 1 ? "ascending" : "descending");
    body.append(...sorted);
  };
  for (const head of table.tHead.rows[0].cells) {
    const button = document.createElement("button");
    button.type = "button";
    button.append(...head.childNodes);
    button.addEventListener("click", () => sort(head));
    head.append(button);
  }

  // On paper nothing can be opened.
  addEventListener("beforeprint", () => {
    for (const each of document.querySelectorAll("details")) each.open = true;
  });
}
