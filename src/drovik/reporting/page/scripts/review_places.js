// Drawing a box, or setting a point, where an expected place is missing.

/** Lets somebody draw on a stage; `done` is called with the corners of a box, or a point, in pixels of the picture. */
export class PlaceDrawing {
    constructor(stage, done) {
        this.stage = stage;
        this.done = done;
        this.kind = null;
        const { element } = stage;
        element.addEventListener("pointerdown", (event) => this.begin(event), true);
        element.addEventListener("pointerup", (event) => this.end(event), true);
    }

    /** Start drawing a "box" or a "point"; null ends it. */
    start(kind) {
        this.kind = kind;
        this.stage.element.style.cursor = kind ? "crosshair" : "";
    }

    at(event) {
        const box = this.stage.element.getBoundingClientRect();
        const x = (event.clientX - box.left - this.stage.x) / this.stage.scale;
        const y = (event.clientY - box.top - this.stage.y) / this.stage.scale;
        const within = (value, most) => Math.round(Math.min(Math.max(value, 0), most) * 10) / 10;
        return [within(x, this.stage.width), within(y, this.stage.height)];
    }

    begin(event) {
        if (this.kind) {
            event.stopImmediatePropagation();
            this.first = this.at(event);
        }
    }

    end(event) {
        if (!this.kind || !this.first) {
            return;
        }
        event.stopImmediatePropagation();
        const [[x1, y1], [x2, y2]] = [this.first, this.at(event)];
        this.first = null;
        const place =
            this.kind === "point"
                ? [x2, y2]
                : [Math.min(x1, x2), Math.min(y1, y2), Math.max(x1, x2), Math.max(y1, y2)];
        const isNothing = this.kind === "box" && (place[0] === place[2] || place[1] === place[3]);
        this.start(null);
        if (!isNothing) {
            this.done(place);
        }
    }
}
