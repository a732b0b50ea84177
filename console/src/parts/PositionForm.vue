<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, ref } from 'vue'
import { api, ask, type Schemas } from '../api'
import { useActs } from '../act'
import { bytes, count } from '../words'
import TroubleBox from './TroubleBox.vue'

// How a person sets a position: what that means is told before it is done.
const props = defineProps<{ feed: string; table: string; stands: string; log: boolean }>()
const emit = defineEmits<{ set: [] }>()
const position = ref(props.stands)
const back = ref('')
const meant = ref<Schemas['Checkpoint']>()
const { busy, refused, act } = useActs()

const params = { path: { name: props.feed }, query: { table: props.table } }

async function move(dry: boolean) {
  meant.value = undefined
  const to = back.value ? { back: back.value } : { position: position.value }
  const { data } = await act(dry ? 'tell' : 'set', () =>
    ask(api.PUT('/api/v1/feeds/{name}/positions', { params, body: { ...to, dry_run: dry } })),
  )
  if (!data) return
  if (dry) meant.value = data
  else emit('set')
}

async function clear() {
  const { data } = await act('clear', () => ask(api.DELETE('/api/v1/feeds/{name}/positions', { params })), {
    title: 'Clear the position',
    text: 'Clear the position? The next run reads everything again; rows that are there already are recognised.',
    yes: 'Clear',
  })
  if (data) emit('set')
}

const said = computed(() => {
  const m = meant.value
  if (!m) return ''
  if (m.again_log_bytes !== undefined)
    return `${bytes(m.again_log_bytes)} of the log would be read again, for all tables of the feed that follow it.`
  if (m.skipped_log_bytes !== undefined)
    return `${bytes(m.skipped_log_bytes)} of the log would be read by no run, for all tables of the feed that follow it.`
  if (m.again !== undefined) return `${count(m.again)} rows of the source would be read again.`
  if (m.skipped !== undefined) return `${count(m.skipped)} rows of the source would be read by no run.`
  return 'How much that is could not be told in time.'
})
</script>

<template>
  <form class="pad" aria-label="Set the position" @submit.prevent="move(false)">
    <div class="fields">
      <label
        ><span>{{ log ? 'To a place in the log, or end' : 'Read again, or skip, from' }}</span
        ><ElInput v-model="position" class="mono" :disabled="back !== ''"
      /></label>
      <label><span>Or back by</span><ElInput v-model="back" placeholder="2h or 3d" /></label>
      <ElButton :loading="busy === 'tell'" @click="move(true)">Tell what that means</ElButton>
      <ElButton native-type="submit" type="primary" :loading="busy === 'set'">Set the position</ElButton>
      <ElButton v-if="!log" :loading="busy === 'clear'" @click="clear">Clear it…</ElButton>
    </div>
    <p v-if="meant" class="meant" role="status">
      It would be <span class="mono">{{ meant.position }}</span
      >. {{ said }}
    </p>
    <p v-if="log" class="quiet">A feed that follows its log is paused first. What is read again comes to the same.</p>
    <TroubleBox :trouble="refused" />
  </form>
</template>

<style scoped>
.fields {
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  gap: 8px 12px;
}
.fields label span {
  display: block;
  color: var(--ink-2);
  font-size: 12px;
}
.fields label:first-child {
  flex: 1 1 320px;
  max-width: 560px;
}
.fields label:nth-child(2) {
  width: 130px;
}
.meant,
.quiet {
  margin: 10px 0;
}
</style>
