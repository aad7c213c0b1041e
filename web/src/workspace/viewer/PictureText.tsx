import type { ReactNode } from "react";

/** Words on the picture, readable on light and dark. */
export function PictureText({ x, y, children }: { x: number; y: number; children: ReactNode }) {
  return (
    <text
      x={x}
      y={y}
      textAnchor="middle"
      fontSize="12"
      fontWeight="600"
      fill="#fff"
      stroke="#000"
      strokeWidth="3"
      strokeOpacity="0.65"
      paintOrder="stroke"
    >
      {children}
    </text>
  );
}
