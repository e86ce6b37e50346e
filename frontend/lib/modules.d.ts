// Packages that come without types of their own.
declare module "@alpinejs/csp" {
    import type { Alpine } from "alpinejs";
    const alpine: Alpine;
    export default alpine;
}
declare module "@alpinejs/focus" {
    import type { PluginCallback } from "alpinejs";
    const plugin: PluginCallback;
    export default plugin;
}
declare module "idiomorph" {
    export const Idiomorph: {
        morph(element: Element, content: string, options: object): Node[];
    };
}
