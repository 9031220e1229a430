import type { Directive } from "vue";

/** `v-focus`: the field takes the keyboard when it appears. The attribute of HTML does so for the first of a page alone. */
export const focus: Directive<HTMLElement> = { mounted: (element) => element.focus() };

declare module "vue" {
  interface GlobalDirectives {
    vFocus: typeof focus;
  }
}
