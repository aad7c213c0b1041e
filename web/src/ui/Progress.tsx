export function Progress({ done, total, label }: { done: number; total: number; label: string }) {
  const share = total > 0 ? Math.min(1, done / total) : 0;
  return (
    <span
      role="progressbar"
      aria-label={label}
      aria-valuemin={0}
      aria-valuemax={total}
      aria-valuenow={done}
      className="block h-[5px] min-w-16 flex-1 overflow-hidden rounded-full bg-line"
    >
      <i className="block h-full bg-tide" style={{ width: `${share * 100}%` }} />
    </span>
  );
}
