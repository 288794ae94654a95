/** Ant Design in Ivrell's look: tokens that follow theme.css. */
import { theme as antTheme, type ThemeConfig } from "antd";
import { useSyncExternalStore } from "react";

export type Mode = "light" | "dark";
const KEY = "ivrell-theme";
const listeners = new Set<() => void>();

function mode(): Mode {
  const kept = localStorage.getItem(KEY);
  if (kept === "light" || kept === "dark") return kept;
  return matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
}

export function setMode(next: Mode): void {
  localStorage.setItem(KEY, next);
  document.documentElement.dataset.theme = next;
  listeners.forEach((listener) => listener());
}

export function useMode(): Mode {
  return useSyncExternalStore((listener) => {
    listeners.add(listener);
    return () => listeners.delete(listener);
  }, mode);
}

export function applyMode(): void {
  document.documentElement.dataset.theme = mode();
}

const COLOURS = {
  light: {
    ink: "#1c2740",
    faint: "#5f6982",
    accent: "#28518f",
    sheet: "#fffdf9",
    ground: "#f8f5ee",
    line: "#ddd5c5",
  },
  dark: {
    ink: "#e8e3d6",
    faint: "#9aa1b2",
    accent: "#8fb4ee",
    sheet: "#191e29",
    ground: "#12161f",
    line: "#343c4d",
  },
};

export function antd(current: Mode): ThemeConfig {
  const c = COLOURS[current];
  return {
    algorithm: current === "dark" ? antTheme.darkAlgorithm : antTheme.defaultAlgorithm,
    token: {
      colorPrimary: c.accent,
      colorInfo: c.accent,
      colorLink: c.accent,
      colorText: c.ink,
      colorTextBase: c.ink,
      colorTextPlaceholder: c.faint,
      colorBgBase: c.sheet,
      colorBgContainer: c.sheet,
      colorBgElevated: c.sheet,
      colorBgLayout: c.ground,
      colorBorder: c.line,
      borderRadius: 3,
      fontFamily: '"Source Sans 3 Variable", "DejaVu Sans", sans-serif',
      fontFamilyCode: '"Source Code Pro Variable", "DejaVu Sans Mono", monospace',
      fontSize: 15,
      controlHeight: 32,
      boxShadow: "none",
      boxShadowTertiary: "none",
      motionDurationMid: "0.12s",
      motionDurationSlow: "0.15s",
    },
    components: {
      Button: {
        primaryShadow: "none",
        defaultShadow: "none",
        fontWeight: 550,
        // The accent of the dark theme is light: white words on it could hardly be read.
        primaryColor: current === "dark" ? c.ground : "#ffffff",
      },
      Drawer: { padding: 18 },
      Tooltip: { colorBgSpotlight: current === "dark" ? "#343c4d" : "#1c2740" },
    },
  };
}
