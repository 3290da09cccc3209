import { Stage } from '../model/status';
import './status-badge.css';

const classes: Record<Stage, string> = {
  [Stage.Sailed]: 'status-sailed',
  [Stage.Boarding]: 'status-boarding',
  [Stage.Held]: 'status-held',
  [Stage.Delayed]: 'status-delayed',
  [Stage.OnTime]: 'status-on-time',
};

export function StatusBadge({ stage, late }: { stage: Stage; late: number }) {
  const extra = late > 0 && stage !== Stage.Sailed ? ` +${late}` : '';
  return <span className={`status ${classes[stage]}`}>{stage + extra}</span>;
}
