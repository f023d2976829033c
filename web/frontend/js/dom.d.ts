// What the pages' scripts know of their own markup: elements are found by selector and by what was clicked, and a listener
// on an element of a page is always told of an element.

interface ParentNode {
  querySelector(selectors: string): any;
  querySelectorAll(selectors: string): NodeListOf<any>;
}

interface Document {
  getElementById(id: string): any;
  readonly activeElement: any;
}

interface Element {
  closest(selectors: string): any;
}

interface EventTarget {
  readonly dataset: DOMStringMap;
  readonly classList: DOMTokenList;
  closest(selectors: string): any;
  matches(selectors: string): boolean;
  value: string;
  readonly elements: any;
  textContent: string;
  select(): void;
  blur(): void;
  setAttribute(name: string, value: string): void;
}

interface HTMLElementEventMap {
  "nomogon:now": CustomEvent<any>;
  "nomogon:changed": CustomEvent<any>;
  "nomogon:typed": CustomEvent<any>;
  "nomogon:problem": CustomEvent<any>;
  "htmx:configRequest": CustomEvent<any>;
  "htmx:beforeRequest": CustomEvent<any>;
  "htmx:afterRequest": CustomEvent<any>;
  "htmx:beforeSwap": CustomEvent<any>;
}
