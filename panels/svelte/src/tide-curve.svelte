<script lang="ts">
import { curve, height, hoursIn, width } from './model/curve';
import { formatClock } from './model/format';

let { at }: { at: number } = $props();
const shown = $derived(curve(at));
</script>

<svg viewBox="0 0 {width} {height + 18}" role="img" aria-label="Tide over the next hours">
  <path d={shown.water} />
  <circle cx={shown.x(at)} cy={shown.y(at)} r="5" />
  {#each hoursIn(at) as hour (hour)}
    <text x={shown.x(hour)} y={height + 15}>{formatClock(hour)}</text>
  {/each}
</svg>

<style>
  svg {
    display: block;
    width: 100%;
    margin-top: 10px;
    overflow: visible;
  }
  path {
    fill: #d8e8ea;
    stroke: var(--sea);
    stroke-width: 2;
  }
  circle {
    fill: var(--ember);
    stroke: var(--card);
    stroke-width: 2;
  }
  text {
    font-size: 11px;
    fill: var(--ink-soft);
    text-anchor: middle;
  }
</style>
