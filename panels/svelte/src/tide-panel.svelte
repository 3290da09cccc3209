<script lang="ts">
import { minutesOf } from './model/clock';
import { formatClock } from './model/format';
import { isRising, nextTurn, tideAt } from './model/tide';
import TideCurve from './tide-curve.svelte';

let now = $state(minutesOf(new Date()));
let ahead = $state(0);
const at = $derived(now + ahead * 60);
const rising = $derived(isRising(at));

$effect(() => {
  const timer = setInterval(() => {
    now = minutesOf(new Date());
  }, 1000);
  return () => clearInterval(timer);
});
</script>

<section class="card tide">
  <h2>Tide <span>{tideAt(at).toFixed(1)} m</span></h2>
  <p>{rising ? 'Rising, high' : 'Falling, low'} water at {formatClock(nextTurn(at))}</p>
  <TideCurve {at} />
  <label>
    {ahead === 0 ? 'now' : `in ${ahead} h`}
    <input bind:value={ahead} type="range" min="0" max="12" style:accent-color={rising ? 'var(--sea)' : 'var(--ember)'}>
  </label>
</section>

<style>
  .tide {
    max-width: 420px;
    margin: 40px auto;
    padding: 20px;
  }
  h2 {
    display: flex;
    justify-content: space-between;
    align-items: baseline;
    font-size: 17px;
  }
  h2 span {
    font-size: 22px;
    color: var(--sea);
  }
  p,
  label {
    color: var(--ink-soft);
    font-size: 14px;
  }
  label {
    display: flex;
    gap: 12px;
    margin-top: 14px;
  }
  input {
    flex: 1;
  }
</style>
