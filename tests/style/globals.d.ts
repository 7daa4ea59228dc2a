// What pages find in the window: libraries without types of their own, and what tests look at. Elements are taken for
// what the templates make them: a typed check of those would need the templates.
interface Window {
    ol: any;
    htmx: any;
    Alpine: any;
    bothrosMap: any;
}
declare module '/assets/vendor/*';
interface EventTarget {
    [name: string]: any;
}
interface Event {
    detail: any;
    key: string;
    dataTransfer: any;
}
interface Element {
    [name: string]: any;
}
