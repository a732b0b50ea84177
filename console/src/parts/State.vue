<script setup lang="ts">
// A state is told by a word and a shape; the colour only supports it.
defineProps<{ state: string; word?: string }>()
const shapes: Record<string, string> = {
  current: 'M6 1.5a4.5 4.5 0 1 0 0 9 4.5 4.5 0 0 0 0-9Z',
  works: 'M6 1.5a4.5 4.5 0 1 0 0 9 4.5 4.5 0 0 0 0-9Z',
  following: 'M1.5 1.8v8.4L6 6ZM6 1.8v8.4L10.5 6Z',
  copying: 'M1.5 1.5h6v6h-6ZM4.5 8.5v2h6v-6h-2v4Z',
  made: 'M6 1.5a4.5 4.5 0 1 0 0 9 4.5 4.5 0 0 0 0-9Z',
  kept: 'M2.5 5.5h1v-1.5a2.5 2.5 0 0 1 5 0v1.5h1v5h-7Z',
  done: 'M6 1.5a4.5 4.5 0 1 0 0 9 4.5 4.5 0 0 0 0-9Z',
  active: 'M2.5 1.5v9l8-4.5Z',
  working: 'M2.5 1.5v9l8-4.5Z',
  drained: 'M2.5 2h2.6v8H2.5ZM6.9 2h2.6v8H6.9Z',
  paused: 'M2.5 2h2.6v8H2.5ZM6.9 2h2.6v8H6.9Z',
  stopped: 'M2 2h8v8H2Z',
  held: 'M2.5 5.5h1v-1.5a2.5 2.5 0 0 1 5 0v1.5h1v5h-7Z',
  unequal: 'M1.5 3h9v2h-9ZM1.5 7h9v2h-9ZM8 1l1.4.6-5.4 9.4-1.4-.6Z',
  failing: 'M6 .8 11.6 11H.4Z',
  failed: 'M6 .8 11.6 11H.4Z',
  note: 'M2 2.2h8v1.4H2ZM2 5.3h8v1.4H2ZM2 8.4h5v1.4H2Z',
  behind: 'M6 1.5a4.5 4.5 0 0 0 0 9Z',
}
</script>

<template>
  <span class="state" :class="state">
    <svg viewBox="0 0 12 12" width="11" height="11" aria-hidden="true">
      <path v-if="shapes[state]" :d="shapes[state]" fill="currentColor" />
      <circle
        v-else
        cx="6"
        cy="6"
        r="4"
        fill="none"
        stroke="currentColor"
        stroke-width="1.6"
        :stroke-dasharray="state === 'running' || state === 'making' ? '17 8' : undefined" />
    </svg>
    {{ word ?? state }}
  </span>
</template>

<style scoped>
.state {
  display: inline-flex;
  align-items: center;
  gap: 6px;
  white-space: nowrap;
  color: var(--ink-2);
}
.current,
.following,
.done,
.made,
.works,
.active,
.working {
  color: var(--good);
}
.failing,
.failed,
.held,
.kept,
.unequal {
  color: var(--bad);
  font-weight: 600;
}
.behind,
.stopped,
.waited,
.draining,
.drained {
  color: var(--warn);
}
.running,
.making,
.copying {
  color: var(--act);
}
.running svg,
.making svg {
  animation: turn 1.2s linear infinite;
}
@keyframes turn {
  to {
    transform: rotate(360deg);
  }
}
</style>
