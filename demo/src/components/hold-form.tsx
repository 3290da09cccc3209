import { type FormEvent, useState } from 'react';
import { holdDeparture } from '../api/departures';
import type { Departure } from '../model/departure';
import './hold-form.css';

const spans = [5, 10, 15, 20, 30];

export function HoldForm({ departure, onHeld }: { departure: Departure; onHeld(): void }) {
  const [minutes, setMinutes] = useState(10);
  const [reason, setReason] = useState('');
  const [isSending, setSending] = useState(false);
  const [problem, setProblem] = useState<string | null>(null);

  async function submit(event: FormEvent) {
    event.preventDefault();
    setSending(true);
    try {
      await holdDeparture(departure.id, { minutes, reason });
      setReason('');
      setProblem(null);
      onHeld();
    } catch (error) {
      setProblem((error as Error).message);
    }
    setSending(false);
  }

  return (
    <form className="hold" onSubmit={submit}>
      <label>
        Hold for
        <select value={minutes} onChange={(event) => setMinutes(Number(event.target.value))}>
          {spans.map((span) => (
            <option key={span} value={span}>
              {span} minutes
            </option>
          ))}
        </select>
      </label>
      <label>
        Reason
        <input
          required
          placeholder="e.g. waiting for the school bus"
          value={reason}
          onChange={(event) => setReason(event.target.value)}
        />
      </label>
      <button type="submit" disabled={isSending}>
        Hold departure
      </button>
      {problem && <output>{problem}</output>}
    </form>
  );
}
