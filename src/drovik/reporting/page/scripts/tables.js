// Tables that a click, or Enter, on a column's title sorts.

/** What a cell sorts by: its number if it begins with one, else its words. */
function keyOf(cell) {
    const text = (cell?.textContent ?? "").trim();
    const number = /^[+−-]?\d[\d  ]*(?:\.\d+)?/.exec(text);
    return number ? Number(number[0].replace("−", "-").replaceAll(/[  ]/g, "")) : text.toLowerCase();
}

function compared(one, other) {
    if (typeof one === typeof other) {
        return one < other ? -1 : one > other ? 1 : 0;
    }
    return typeof one === "number" ? -1 : 1;
}

function sort(table, column, heads) {
    const head = heads[column];
    const down = head.getAttribute("aria-sort") === "ascending";
    for (const one of heads) {
        one.removeAttribute("aria-sort");
    }
    head.setAttribute("aria-sort", down ? "descending" : "ascending");
    const body = table.tBodies[0];
    const rows = [...body.rows].map((row, number) => [keyOf(row.cells[column]), number, row]);
    rows.sort((one, other) => (down ? -1 : 1) * compared(one[0], other[0]) || one[1] - other[1]);
    body.append(...rows.map((row) => row[2]));
}

/** Make every table sortable that is marked so. */
export function makeSortable() {
    for (const table of document.querySelectorAll("table.sortable")) {
        const heads = [...table.tHead.rows[0].cells];
        heads.forEach((head, column) => {
            const button = document.createElement("button");
            button.type = "button";
            button.append(...head.childNodes);
            button.addEventListener("click", () => sort(table, column, heads));
            head.append(button);
        });
    }
}
