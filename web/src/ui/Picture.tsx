import { type ImgHTMLAttributes, useEffect, useState } from "react";

const PAUSES_S = [1, 2, 4, 8, 15, 30];

/** A picture of the server's. One that could not be had just now, since much is waiting or a part starts again, is asked for again. */
export function Picture({
  src,
  alt,
  ...rest
}: ImgHTMLAttributes<HTMLImageElement> & { src: string; alt: string }) {
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
  return <img {...rest} alt={alt} src={url} onError={() => setMissed({ src, times: again + 1, again })} />;
}
