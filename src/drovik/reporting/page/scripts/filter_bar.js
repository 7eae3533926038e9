// The form above the cases: which are shown, and in which order.

import { made, tasks } from "./data.js";
import { columnOf } from "./filters.js";

const ORDERS = ["", "loss", "disagreement", "money"];

function choice(name, label, options, value) {
    const select = made("select");
    select.name = name;
    for (const one of options) {
        const [key, text] = Array.isArray(one) ? one : [one, one];
        const option = made("option", "", text);
        option.value = key;
        option.selected = key === (value ?? "");
        select.append(option);
    }
    return made("label", "", made("span", "", label), select);
}

function any(names, word = "any") {
    return [["", word], ...names];
}

function values(task, column) {
    return [...new Set(task.rows.map((row) => columnOf(row, column)))].filter(Boolean).sort().slice(0, 200);
}

function fieldsOf(task, state) {
    const columns = [
        ...(task.rows.some((row) => row.group) ? ["group"] : []),
        ...(task.rows.some((row) => row.split) ? ["split"] : []),
        ...task.columns,
    ];
    const fields = [
        choice("task", "task", [...tasks.keys()], task.name),
        choice("arm", "arm", any(task.arms, "all"), state.arm),
        choice("outcome", "answer", any(["right", "wrong"]), state.outcome),
        choice("status", "status", any(task.statuses), state.status),
        choice("cause", "cause", any(task.causes), state.cause),
    ];
    if (task.labels.length) {
        fields.push(choice("label", "expected label", any(task.labels), state.label));
    }
    fields.push(
        choice("from", "from arm", any(task.arms, "–"), state.from),
        choice("to", "to arm", any(task.arms, "–"), state.to),
        choice("change", "change", any(["fixed", "broken"], "either"), state.change),
    );
    if (columns.length) {
        fields.push(choice("column", "column", any(columns, "–"), state.column));
        if (state.column) {
            fields.push(choice("value", state.column, any(values(task, state.column)), state.value));
        }
    }
    const orders = ORDERS.map((one) => [one, one || "as in the project"]);
    return [...fields, choice("order", "order by", orders, state.order)];
}

/** The form of the filters; `change` is called with all that is chosen. */
export class FilterBar {
    constructor(form, change) {
        this.form = form;
        form.addEventListener("submit", (event) => event.preventDefault());
        form.addEventListener("input", () => change(this.chosen()));
    }

    /** Show what is chosen; the search keeps its words and its place while somebody types. */
    show(task, state) {
        const focused = document.activeElement?.name;
        const fields = fieldsOf(task, state);
        if (!this.search) {
            this.search = made("input");
            Object.assign(this.search, { type: "search", name: "text", placeholder: "in any text" });
            this.apart = made("input");
            Object.assign(this.apart, { type: "checkbox", name: "apart" });
            this.clear = made("button", "", "clear");
            this.clear.type = "button";
            this.clear.addEventListener("click", () => {
                this.form.reset();
                for (const field of this.form.elements) {
                    if (field.name && field.name !== "task") {
                        field.value = "";
                    }
                }
                this.apart.checked = false;
                this.form.dispatchEvent(new Event("input"));
            });
        }
        if (document.activeElement !== this.search) {
            this.search.value = state.text ?? "";
        }
        this.apart.checked = Boolean(state.apart);
        if (document.activeElement === this.search) {
            this.form
                .querySelectorAll("label:not(:has([name='text'])):not(.tick)")
                .forEach((label, at) => label.replaceWith(fields[at] ?? ""));
            return;
        }
        this.form.replaceChildren(
            made("label", "", made("span", "", "text"), this.search),
            ...fields,
            made("label", "tick", this.apart, "arms disagree"),
            this.clear,
        );
        this.form.querySelector(`[name="${CSS.escape(focused ?? "-")}"]`)?.focus();
    }

    chosen() {
        const found = Object.fromEntries(new FormData(this.form));
        return { ...found, apart: this.apart.checked ? "1" : "" };
    }
}
