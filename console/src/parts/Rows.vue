<script setup lang="ts">
import { count } from '../words'

// A counter; zero steps back so that what happened stands out.
defineProps<{ n: number }>()
</script>

<template>
  <span :class="{ zero: n === 0 }">{{ count(n) }}</span>
</template>
