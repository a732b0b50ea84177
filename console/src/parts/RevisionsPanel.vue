<script setup lang="ts">
import { ElButton } from 'element-plus'
import { useActs } from '../act'
import { api, ask } from '../api'
import { useList } from '../list'
import TroubleBox from './TroubleBox.vue'
import When from './When.vue'

// What a feed's file has said from one change to the next; any of them can be looked at, and applied again.
const props = defineProps<{ feed: string; applied: number; now: number }>()
const emit = defineEmits<{ open: [file: string] }>()
const { busy, refused, act } = useActs()

const { list: revisions, wrong } = useList(
  () => [props.feed, props.applied],
  () => ask(api.GET('/api/v1/feeds/{name}/revisions', { params: { path: { name: props.feed } } })),
)

async function show(revision: number) {
  const { data } = await act(String(revision), () =>
    ask(api.GET('/api/v1/feeds/{name}/revisions/{revision}', { params: { path: { name: props.feed, revision } } })),
  )
  if (data) emit('open', data.file)
}
</script>

<template>
  <TroubleBox :trouble="wrong ?? refused" />
  <section v-if="revisions.length > 1" class="sheet" aria-label="Revisions">
    <header>
      <h2>Revisions</h2>
      <span class="quiet">what the feed's file has said, and who has changed it</span>
    </header>
    <div class="scroll">
      <table class="rows">
        <thead>
          <tr>
            <th class="n" scope="col">Revision</th>
            <th scope="col">By</th>
            <th scope="col">What was changed</th>
            <th class="n" scope="col">When</th>
            <th scope="col"><span class="visually-hidden">Its file</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(r, i) in revisions" :key="r.revision">
            <td class="n">{{ r.revision }}</td>
            <td>{{ r.by || '–' }}</td>
            <td class="changes">
              <div v-for="c in r.changes" :key="c.path">
                <span class="mono">{{ c.path }}</span
                >: {{ c.old || 'nothing' }} → {{ c.new || 'nothing' }}
              </div>
              <span v-if="!r.changes.length" class="quiet">the first that is kept</span>
            </td>
            <td class="n"><When :time="r.at" :now="now" /></td>
            <td class="n">
              <ElButton
                size="small"
                text
                :loading="busy === String(r.revision)"
                :aria-label="`The file of revision ${r.revision}`"
                @click="show(r.revision)"
                >{{ i === 0 ? 'File…' : 'Back to this…' }}</ElButton
              >
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>

<style scoped>
.changes {
  white-space: normal;
  overflow-wrap: anywhere;
  max-width: 44em;
}
</style>
