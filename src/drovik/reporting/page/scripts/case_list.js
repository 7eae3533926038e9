// The list of cases: only the rows in view are drawn, however many there are.

import { isRight, made, page } from "./data.js";

const HEIGHT = 56;
const BEYOND = 6;
const MARKS = new Map([
    [true, ["✓", "good"]],
    [false, ["✗", "bad"]],
    [undefined, ["·", ""]],
]);

/** The list; `choose` is called with the row that somebody picks. */
export class CaseList {
    constructor(element, choose) {
        this.element = element;
        this.rows = [];
        this.chosen = -1;
        this.space = made("div");
        element.append(this.space);
        element.addEventListener("scroll", () => this.draw());
        element.addEventListener("click", (event) => {
            const row = event.target.closest(".row");
            if (row) {
                choose(this.rows[Number(row.dataset.number)]);
            }
        });
        addEventListener("resize", () => this.draw());
    }

    /** Show rows of a task, with one of them chosen. */
    show(task, rows, chosen) {
        this.task = task;
        this.rows = rows;
        this.chosen = rows.indexOf(chosen);
        this.space.style.height = `${rows.length * HEIGHT}px`;
        const [top, bottom] = [this.chosen * HEIGHT, (this.chosen + 1) * HEIGHT];
        if (
            this.chosen >= 0 &&
            (top < this.element.scrollTop || bottom > this.element.scrollTop + this.element.clientHeight)
        ) {
            this.element.scrollTop = top - this.element.clientHeight / 3;
        }
        this.draw();
    }

    draw() {
        const first = Math.max(0, Math.floor(this.element.scrollTop / HEIGHT) - BEYOND);
        const last = Math.min(this.rows.length, first + Math.ceil(this.element.clientHeight / HEIGHT) + 2 * BEYOND);
        const drawn = [this.space];
        for (let number = first; number < last; number += 1) {
            drawn.push(this.drawnRow(number));
        }
        this.element.replaceChildren(...drawn);
        if (this.chosen >= first && this.chosen < last) {
            this.element.setAttribute("aria-activedescendant", `row-${this.chosen}`);
        } else {
            this.element.removeAttribute("aria-activedescendant");
        }
    }

    drawnRow(number) {
        const row = this.rows[number];
        const element = made("div", "row");
        element.id = `row-${number}`;
        element.dataset.number = number;
        element.style.top = `${number * HEIGHT}px`;
        element.setAttribute("role", "option");
        element.setAttribute("aria-selected", String(number === this.chosen));
        element.setAttribute("aria-setsize", this.rows.length);
        element.setAttribute("aria-posinset", number + 1);
        const small = page.pictures[row.pictures[0]]?.small;
        const image = made(small ? "img" : "span", "small");
        if (small) {
            Object.assign(image, { alt: "", width: 62, height: 46, src: small });
        }
        const words = made("div", "", made("div", "name", row.label ? `${row.id} · ${row.label}` : row.id));
        words.append(this.marks(row));
        element.append(image, words);
        return element;
    }

    marks(row) {
        const line = made("div", "marks");
        const right = row.answers.filter((one) => isRight(one)).length;
        const scored = row.answers.filter((one) => isRight(one) !== undefined).length;
        for (const answer of row.answers.slice(0, 16)) {
            const [mark, name] = MARKS.get(isRight(answer));
            line.append(made("span", name, mark));
        }
        line.setAttribute("aria-label", `${right} of ${scored} arms right`);
        line.setAttribute("role", "img");
        return line;
    }
}
