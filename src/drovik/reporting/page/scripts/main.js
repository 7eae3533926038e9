// Starts the page: shows the part that the address names, and listens for keys.

import { CaseList } from "./case_list.js";
import { showCase } from "./case_view.js";
import { made, page, tasks } from "./data.js";
import { FilterBar } from "./filter_bar.js";
import { chosenRows } from "./filters.js";
import { fillKeys, isTyping } from "./keys.js";
import { makeSortable } from "./tables.js";
import { changeTheme, startTheme } from "./theme.js";
import { goTo, readState } from "./view_state.js";

const parts = [...document.querySelectorAll("section[data-view]")];
const links = [...document.querySelectorAll("nav a[data-view]")];
const [theme, dialog, count, shownCase] = ["theme", "keys", "count", "case"].map((id) => document.getElementById(id));
const current = { state: {}, rows: [], row: null, view: null };

const list = new CaseList(document.getElementById("list"), (row) => choose(row));
const bar = new FilterBar(document.getElementById("filters"), (chosen) => {
    const { task } = current.state;
    const kept =
        chosen.task === (task ?? page.tasks[0]?.name) ? { hide: current.state.hide, case: current.state.case } : {};
    const picked =
        kept.case === undefined && chosen.task !== task
            ? { view: "cases", task: chosen.task }
            : { view: "cases", ...chosen, ...kept };
    goTo(picked, true);
});

function choose(row) {
    goTo({ ...current.state, view: "cases", task: taskOf(current.state).name, case: row.id }, true);
}

function taskOf(state) {
    return tasks.get(state.task) ?? page.tasks[0];
}

function show() {
    const state = readState(location.hash);
    if (!parts.some((part) => part.dataset.view === state.view)) {
        state.view = "overview";
    }
    const moved = current.state.view !== undefined && current.state.view !== state.view;
    for (const part of parts) {
        part.hidden = part.dataset.view !== state.view;
    }
    for (const link of links) {
        link[link.dataset.view === state.view ? "setAttribute" : "removeAttribute"]("aria-current", "page");
    }
    current.state = state;
    if (state.view === "cases" && page.tasks.length) {
        showCases(state);
    }
    if (moved) {
        scrollTo(0, 0);
        document.getElementById("main").focus({ preventScroll: true });
    }
}

function showCases(state) {
    const task = taskOf(state);
    bar.show(task, state);
    current.rows = chosenRows(task, state);
    current.row = current.rows.find((row) => row.id === state.case) ?? current.rows[0] ?? null;
    list.show(task, current.rows, current.row);
    const held =
        task.rows.length < task.cases
            ? ` (the page holds the ${task.rows.length} most telling of ${task.cases})`
            : "";
    count.textContent = `${current.rows.length} of ${task.rows.length} cases${held}`;
    if (current.row) {
        current.view = showCase(shownCase, task, current.row, state);
    } else {
        shownCase.replaceChildren(made("p", "also", "No case fits: choose less, or clear."));
        current.view = null;
    }
}

function step(by) {
    const at = current.rows.indexOf(current.row) + by;
    if (at >= 0 && at < current.rows.length) {
        choose(current.rows[at]);
    }
}

function hideArm(number) {
    const arm = taskOf(current.state).arms[number - 1];
    if (arm) {
        const hidden = new Set((current.state.hide ?? "").split(",").filter(Boolean));
        hidden[hidden.has(arm) ? "delete" : "add"](arm);
        goTo({ ...current.state, hide: [...hidden].join(",") }, true);
    }
}

const COMMANDS = {
    j: () => step(1),
    k: () => step(-1),
    "+": () => current.view?.stage?.zoom(1.25),
    "=": () => current.view?.stage?.zoom(1.25),
    "-": () => current.view?.stage?.zoom(0.8),
    0: () => current.view?.stage?.fit(),
    "/": () => document.querySelector("[name='text']")?.focus(),
};

function onKey(event) {
    if (event.ctrlKey || event.metaKey || event.altKey || isTyping(event.target) || dialog.open) {
        if (event.key === "Escape" && event.target.name === "text") {
            event.target.blur();
        }
        return;
    }
    const inCases = current.state.view === "cases";
    const arrows = { ArrowDown: "j", ArrowUp: "k" };
    const key =
        event.target.closest?.("#list, body") &&
        arrows[event.key] &&
        inCases &&
        !event.target.closest("a, button, summary")
            ? arrows[event.key]
            : event.key;
    if (inCases && COMMANDS[key]) {
        event.preventDefault();
        COMMANDS[key]();
    } else if (inCases && /^[1-9]$/.test(key)) {
        hideArm(Number(key));
    } else if (key === "o") {
        goTo({ view: "overview" });
    } else if (key === "c") {
        goTo({ view: "cases" });
    } else if (key === "d") {
        changeTheme(theme);
    } else if (key === "?") {
        dialog.showModal();
    }
}

// On a phone the filters would fill the screen.
document.querySelector("details.filters").open = innerWidth > 860;
fillKeys(dialog);
makeSortable();
startTheme(theme);
addEventListener("hashchange", show);
addEventListener("keydown", onKey);
addEventListener("resize", () => current.view?.stage?.fit());
show();
