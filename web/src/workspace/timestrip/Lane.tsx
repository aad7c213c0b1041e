import { useEffect, useRef } from "react";
import type { Scale } from "~/workspace/timestrip/scale";

export type Draw = (context: CanvasRenderingContext2D, colour: (token: string) => string) => void;

/** A drawn lane of the time strip, sharp on any screen; drawn afresh when `draw` changes. */
export function Lane({
  height,
  label,
  scale,
  draw,
}: {
  height: number;
  label: string;
  scale: Scale;
  draw: Draw;
}) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    const element = canvas.current;
    const context = element?.getContext("2d");
    if (!element || !context) return;
    const ratio = devicePixelRatio;
    element.width = scale.width * ratio;
    element.height = height * ratio;
    context.scale(ratio, ratio);
    const style = getComputedStyle(element);
    draw(context, (token) => style.getPropertyValue(token));
  }, [height, scale.width, draw]);
  return (
    <canvas
      ref={canvas}
      role="img"
      aria-label={label}
      className="block"
      style={{ width: scale.width, height }}
    />
  );
}
