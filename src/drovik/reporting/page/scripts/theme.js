// Light or dark: as the system has it, until somebody chooses.

const root = document.documentElement;

function isDark() {
    return root.dataset.theme ? root.dataset.theme === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
}

/** Change from light to dark, or back. */
export function changeTheme(button) {
    root.dataset.theme = isDark() ? "light" : "dark";
    tell(button);
}

function tell(button) {
    button.textContent = isDark() ? "Light" : "Dark";
    button.setAttribute("aria-label", isDark() ? "show light" : "show dark");
}

/** The button that changes it. */
export function startTheme(button) {
    button.hidden = false;
    tell(button);
    button.addEventListener("click", () => changeTheme(button));
    matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => tell(button));
}
