import { ref, watchEffect } from "vue";

type Theme = "light" | "dark";
const kept = localStorage.getItem("theme");
const preferred: Theme = matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
const theme = ref<Theme>(kept === "light" || kept === "dark" ? kept : preferred);
watchEffect(() => {
  document.documentElement.dataset.theme = theme.value;
});

/** The colours of the console: the system's until somebody chooses. */
export function useTheme() {
  const turn = () => {
    theme.value = theme.value === "dark" ? "light" : "dark";
    localStorage.setItem("theme", theme.value);
  };
  return { theme, turn };
}
