// A picture that can be zoomed and moved, with what is expected and what arms answered drawn over it.
// Whose a shape is, is told by how its line is drawn and by a name, never by colour alone.

import { made, page, visible } from "./data.js";

const SVG = "http://www.w3.org/2000/svg";
const DASHES = ["9 5", "2 4", "12 4 2 4", "5 3", "16 6", "3 8", "10 3 3 3 3 3"];
const PINS = [
    "M-8 -8L8 8M8 -8L-8 8",
    "M0 -10V10M-10 0H10",
    "M0 -9L9 8H-9z",
    "M-8 -8H8V8H-8z",
    "M0 -10L10 0L0 10L-10 0z",
];
const RING = "M-8 0a8 8 0 1 0 16 0a8 8 0 1 0 -16 0";
const MOST_ZOOM = 40;

function drawnAs(name, attributes) {
    const element = document.createElementNS(SVG, name);
    for (const [key, value] of Object.entries(attributes)) {
        element.setAttribute(key, value);
    }
    return element;
}

/** The layers of a case over one of its pictures: [name, shapes, how its lines are]. */
export function layersOf(task, row, number, hidden) {
    const of = (shapes) => (shapes ?? []).filter((shape) => shape[0] === number);
    const layers = [["expected", of(row.shapes), { dash: "none", pin: RING }]];
    task.arms.forEach((arm, index) => {
        const answer = row.answers[index];
        if (!answer || hidden.has(arm)) {
            return;
        }
        const sent = number === 0 ? (answer.sent ?? []).map((box) => [0, "box", box, "sent"]) : [];
        const look = { dash: DASHES[index % DASHES.length], pin: PINS[index % PINS.length] };
        layers.push([arm, [...of(answer.shapes), ...sent], look]);
    });
    const regions = number === 0 ? Object.entries(row.regions ?? {}).map(([name, box]) => [0, "box", box, name]) : [];
    layers.push(["regions", regions, { dash: "1 6", pin: RING }]);
    return layers.filter((layer) => layer[1].length);
}

/** The stage of a picture. */
export class PictureStage {
    constructor(number, alt) {
        this.picture = page.pictures[number];
        this.element = made("div", "stage");
        this.moved = made("div", "moved");
        this.image = made("img");
        this.image.alt = alt;
        this.layers = drawnAs("svg", { width: "100%", height: "100%" });
        this.shapes = drawnAs("g", {});
        this.layers.append(this.shapes);
        this.moved.append(this.image);
        this.element.append(this.moved, this.layers);
        this.size(this.picture.size);
        this.show();
        this.listen();
    }

    size([width, height]) {
        this.width = width;
        this.height = height;
        this.image.width = width;
        this.image.height = height;
    }

    /** The small picture at once, the large one as soon as it is there; where it is gone, the small one stays. */
    show() {
        if (!this.picture.small) {
            this.image.hidden = true;
            this.element.append(made("p", "bad", `${this.picture.path} cannot be read`));
            return;
        }
        this.image.src = this.picture.small;
        const large = this.picture.large ?? this.picture.link;
        if (large) {
            const other = new Image();
            other.addEventListener("load", () => {
                this.image.src = large;
            });
            other.src = large;
        }
    }

    /** Fit the picture into the stage; once the stage has its place on the page. */
    fit() {
        const most = Math.max(240, innerHeight * 0.58);
        this.element.style.height = `${Math.min(most, (this.element.clientWidth * this.height) / this.width)}px`;
        const { clientWidth, clientHeight } = this.element;
        this.scale = this.least = Math.min(clientWidth / this.width, clientHeight / this.height) || 1;
        this.x = (clientWidth - this.width * this.scale) / 2;
        this.y = (clientHeight - this.height * this.scale) / 2;
        this.place();
    }

    place() {
        this.moved.style.transform = `translate(${this.x}px, ${this.y}px) scale(${this.scale})`;
        this.shapes.setAttribute("transform", `translate(${this.x} ${this.y}) scale(${this.scale})`);
        this.shapes.style.fontSize = `${13 / this.scale}px`;
        for (const pin of this.shapes.querySelectorAll(".pin")) {
            pin.setAttribute("transform", `translate(${pin.dataset.at}) scale(${1 / this.scale})`);
        }
    }

    /** Zoom about a point of the stage, its middle if none is given. */
    zoom(factor, at = [this.element.clientWidth / 2, this.element.clientHeight / 2]) {
        const scale = Math.min(Math.max(this.scale * factor, this.least), this.least * MOST_ZOOM);
        const by = scale / this.scale;
        this.x = at[0] - (at[0] - this.x) * by;
        this.y = at[1] - (at[1] - this.y) * by;
        this.scale = scale;
        this.place();
    }

    listen() {
        this.element.addEventListener(
            "wheel",
            (event) => {
                event.preventDefault();
                const box = this.element.getBoundingClientRect();
                this.zoom(event.deltaY < 0 ? 1.25 : 0.8, [event.clientX - box.left, event.clientY - box.top]);
            },
            { passive: false },
        );
        this.element.addEventListener("pointerdown", (event) => {
            this.from = [event.clientX - this.x, event.clientY - this.y];
            this.element.setPointerCapture(event.pointerId);
        });
        this.element.addEventListener("pointermove", (event) => {
            if (this.from) {
                this.x = event.clientX - this.from[0];
                this.y = event.clientY - this.from[1];
                this.place();
            }
        });
        for (const name of ["pointerup", "pointercancel"]) {
            this.element.addEventListener(name, () => {
                this.from = null;
            });
        }
    }

    /** Draw layers over the picture. */
    draw(layers) {
        this.shapes.replaceChildren();
        layers.forEach(([name, shapes, look], place) => {
            for (const [, kind, numbers, label] of shapes) {
                this.shapes.append(kind === "point" ? pinAt(numbers, look) : outlined(kind, numbers, look));
                this.shapes.append(nameOf(name, label, numbers, place));
            }
        });
        if (this.scale) {
            this.place();
        }
    }
}

function outlined(kind, numbers, look) {
    const group = drawnAs("g", {});
    for (const name of ["halo", "shape"]) {
        group.append(
            outline(kind, numbers, { class: name, "stroke-dasharray": name === "shape" ? look.dash : "none" }),
        );
    }
    return group;
}

function outline(kind, numbers, attributes) {
    if (kind === "box") {
        const [x1, y1, x2, y2] = numbers;
        return drawnAs("rect", {
            x: x1,
            y: y1,
            width: Math.max(x2 - x1, 0),
            height: Math.max(y2 - y1, 0),
            ...attributes,
        });
    }
    return drawnAs("polygon", { points: numbers.join(" "), ...attributes });
}

function pinAt([x, y], look) {
    const group = drawnAs("g", { class: "pin" });
    group.dataset.at = `${x} ${y}`;
    group.append(drawnAs("path", { class: "halo", d: look.pin }), drawnAs("path", { class: "shape", d: look.pin }));
    return group;
}

/** A shape's name: above it or below it, a line further for each layer, so that those of like places can be read. */
function nameOf(name, label, numbers, place) {
    const xs = numbers.filter((_, at) => at % 2 === 0);
    const ys = numbers.filter((_, at) => at % 2 === 1);
    const [low, line] = [place % 2 === 1, Math.floor(place / 2)];
    const text = drawnAs("text", {
        x: Math.min(...xs),
        y: low ? Math.max(...ys) : Math.min(...ys),
        dy: low ? `${1.2 + 1.15 * line}em` : `${-0.4 - 1.15 * line}em`,
        class: "shape-name",
    });
    text.textContent = visible(label ? `${name}: ${label}` : name);
    return text;
}
