<script setup lang="ts">
import type { Applied } from '../api'

// What a file changes of a feed, field by field.
defineProps<{ changes: Applied['changes'] }>()
</script>

<template>
  <table class="rows">
    <thead>
      <tr>
        <th scope="col">What</th>
        <th scope="col">Now</th>
        <th scope="col">In the file</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="c in changes" :key="c.path">
        <td class="mono">{{ c.path }}</td>
        <td>{{ c.old || '–' }}</td>
        <td>{{ c.new || '–' }}</td>
      </tr>
    </tbody>
  </table>
</template>
