import { create } from "zustand";

export type Theme = "day" | "dim";

interface ThemeState {
  theme: Theme;
  toggle: () => void;
}

const stored = (): Theme => (localStorage.getItem("plonket.theme") === "dim" ? "dim" : "day");

/** Day or dim room; a preference of this browser, not of the shot. */
export const useTheme = create<ThemeState>((set, get) => ({
  theme: stored(),
  toggle: () => {
    const theme = get().theme === "day" ? "dim" : "day";
    localStorage.setItem("plonket.theme", theme);
    set({ theme });
    applyTheme();
  },
}));

export function applyTheme(): void {
  document.documentElement.dataset["theme"] = stored();
}
