import { type ImgHTMLAttributes, useEffect, useRef, useState } from "react";
import { takeTurn } from "./turns";

const PAUSES_S = [1, 2, 4, 8, 15, 30];

type Shown = ImgHTMLAttributes<HTMLImageElement> & { src: string; alt: string };

/** A picture of the server's. One that could not be had just now, since much is waiting or a part starts again, is asked for again. */
export function Picture({ src, alt, settled, ...rest }: Shown & { settled?: () => void }) {
  const [missed, setMissed] = useState({ src, times: 0, again: 0 });
  const mine = missed.src === src ? missed : { src, times: 0, again: 0 };
  const { times, again } = mine;
  useEffect(() => {
    const wait = PAUSES_S[times - 1];
    if (times === again || wait === undefined) return;
    const timer = setTimeout(() => setMissed({ src, times, again: times }), wait * 1000);
    return () => clearTimeout(timer);
  }, [src, times, again]);
  const url = again ? `${src}${src.includes("?") ? "&" : "?"}again=${again}` : src;
  const miss = () => {
    settled?.();
    setMissed({ src, times: again + 1, again });
  };
  return <img {...rest} alt={alt} src={url} onLoad={settled} onError={miss} />;
}

/** One of many pictures on a page: they are asked for two at a time. */
export function OneOfMany(props: Shown) {
  const [may, setMay] = useState(false);
  const end = useRef(() => {});
  useEffect(() => {
    end.current = takeTurn(() => setMay(true));
    return () => end.current();
  }, []);
  if (!may) return <span className={props.className} aria-hidden="true" />;
  return <Picture {...props} settled={() => end.current()} />;
}
