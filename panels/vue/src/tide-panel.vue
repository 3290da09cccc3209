<script setup lang="ts">
import { computed, onUnmounted, ref } from 'vue';
import { minutesOf } from './model/clock';
import { formatClock } from './model/format';
import { isRising, nextTurn, tideAt } from './model/tide';
import TideCurve from './tide-curve.vue';

const now = ref(minutesOf(new Date()));
const ahead = ref(0);
const at = computed(() => now.value + ahead.value * 60);
const rising = computed(() => isRising(at.value));

const timer = setInterval(() => {
  now.value = minutesOf(new Date());
}, 1000);
onUnmounted(() => clearInterval(timer));
</script>

<template>
  <section class="card tide">
    <h2>Tide <span>{{ tideAt(at).toFixed(1) }} m</span></h2>
    <p>{{ rising ? 'Rising, high' : 'Falling, low' }} water at {{ formatClock(nextTurn(at)) }}</p>
    <TideCurve :at="at" />
    <label>
      {{ ahead === 0 ? 'now' : `in ${ahead} h` }}
      <input v-model.number="ahead" type="range" min="0" max="12">
    </label>
  </section>
</template>

<style scoped>
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
  accent-color: v-bind("rising ? 'var(--sea)' : 'var(--ember)'");
}
</style>
