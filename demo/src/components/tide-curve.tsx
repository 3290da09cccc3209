import { curve, height, hoursIn, width } from '../model/curve';
import { formatClock } from '../model/format';

export function TideCurve({ now }: { now: number }) {
  const { x, y, water } = curve(now);
  return (
    <svg className="tide-curve" viewBox={`0 0 ${width} ${height + 18}`} role="img" aria-label="Tide over the next hours">
      <path className="tide-water" d={water} />
      <line className="tide-now" x1={x(now)} x2={x(now)} y1={0} y2={height} />
      <circle className="tide-dot" cx={x(now)} cy={y(now)} r={5} />
      {hoursIn(now).map((hour) => (
        <text key={hour} className="tide-hour" x={x(hour)} y={height + 15}>
          {formatClock(hour)}
        </text>
      ))}
    </svg>
  );
}
