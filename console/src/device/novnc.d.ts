/** The part of the viewer that is used here; the package has no types of its own. */
declare module "@novnc/novnc" {
  export default class RFB extends EventTarget {
    constructor(place: HTMLElement, url: string, options?: { wsProtocols?: string[] });
    scaleViewport: boolean;
    viewOnly: boolean;
    background: string;
    disconnect(): void;
  }
}
