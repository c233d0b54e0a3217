import { createContext, useContext, useSyncExternalStore } from "react";

/** Exposure offset in stops, kept outside React's tree: a step repaints the pictures and the label, not the whole Bench. */
export class Exposure {
  private stops = 0;
  private readonly listeners = new Set<() => void>();
  get = () => this.stops;
  set = (stops: number) => {
    this.stops = stops;
    for (const tell of this.listeners) tell();
  };
  listen = (tell: () => void) => {
    this.listeners.add(tell);
    return () => this.listeners.delete(tell);
  };
}

export const ExposureContext = createContext(new Exposure());

/** The offset in stops, and how to set it. */
export function useStops(): [number, (stops: number) => void] {
  const exposure = useContext(ExposureContext);
  return [useSyncExternalStore(exposure.listen, exposure.get), exposure.set];
}
