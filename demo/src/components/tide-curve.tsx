import { formatClock } from '../model/format';
import { tideAt } from '../model/tide';

const width = 290;
const height = 110;
const hoursShown = 12;
const highestMetres = 5;

export function TideCurve({ now }: { now: number }) {
  const from = now - 180;
  const x = (minute: number) => ((minute - from) / (hoursShown * 60)) * width;
  const y = (metres: number) => height - (metres / highestMetres) * height;
  const points: string[] = [];
  for (let minute = from; minute <= from + hoursShown * 60; minute += 15)
    points.push(`${x(minute).toFixed(1)},${y(tideAt(minute)).toFixed(1)}`);
  const hours = [0, 3, 6, 9].map((hour) => Math.ceil(from / 60) * 60 + hour * 60 + 60);
  return (
    <svg className="tide-curve" viewBox={`0 0 ${width} ${height + 18}`} role="img" aria-label="Tide over the next hours">
      <path className="tide-water" d={`M0,${height} L${points.join(' L')} L${width},${height} Z`} />
      <line className="tide-now" x1={x(now)} x2={x(now)} y1={0} y2={height} />
      <circle className="tide-dot" cx={x(now)} cy={y(tideAt(now))} r={5} />
      {hours.map((hour) => (
        <text key={hour} className="tide-hour" x={x(hour)} y={height + 15}>
          {formatClock(hour)}
        </text>
      ))}
    </svg>
  );
}
