<script setup lang="ts">
import { ElButton, ElDialog, ElForm, ElFormItem, ElInput } from 'element-plus'
import { computed, ref } from 'vue'
import { useActs } from '../act'
import { api, ask, type Finding, type Schemas } from '../api'
import { plural } from '../words'
import State from './State.vue'
import TroubleBox from './TroubleBox.vue'

// What a check has found, by level and table. Remedies that are statements are run for the person, after
// they were shown.
const props = defineProps<{ findings: Finding[]; file?: string }>()
const emit = defineEmits<{ found: [findings: Finding[]] }>()

const levels = [
  { level: 'blocker', state: 'failed', means: 'keeps the feed from running' },
  { level: 'warning', state: 'behind', means: 'the result may not be what is wanted' },
  { level: 'note', state: 'note', means: 'good to know' },
]
const groups = computed(() =>
  levels
    .map((l) => {
      const of = props.findings.filter((f) => f.level === l.level)
      const tables = [...new Set(of.map((f) => f.table ?? ''))].sort()
      return {
        ...l,
        count: of.length,
        tables: tables.map((table) => ({ table, list: of.filter((f) => (f.table ?? '') === table) })),
      }
    })
    .filter((g) => g.count),
)

const more = ref<Record<string, number>>({}) // how many tables of a level are shown

const asked = ref<Finding[]>([])
const asking = ref(false)
const as = ref({ source: { user: '', password: '' }, warehouse: { user: '', password: '' } })
const statementsAt = (side?: string) => [
  ...new Set(asked.value.filter((f) => !side || f.side === side).flatMap((f) => f.statements ?? [])),
]
const sides = computed(() => (['source', 'warehouse'] as const).filter((s) => asked.value.some((f) => f.side === s)))
const done = ref<Schemas['MendedStatement'][]>([])
const { busy, refused, act } = useActs()
const mendable = computed(() => props.findings.filter((f) => f.statements?.length && f.level !== 'note'))

function show(list: Finding[]) {
  asked.value = list
  done.value = []
  refused.value = undefined
  asking.value = true
}

async function run() {
  const signIn = (s: 'source' | 'warehouse') => (as.value[s].user ? as.value[s] : undefined)
  const statements = statementsAt()
  const { data } = await act('mend', () =>
    ask(
      api.POST('/api/v1/mendings', {
        body: { file: props.file ?? '', statements, source: signIn('source'), warehouse: signIn('warehouse') },
      }),
    ),
  )
  if (!data) return
  done.value = data.done
  emit('found', data.findings)
  if (data.done.every((d) => !d.problem && !d.then)) asking.value = false
}
</script>

<template>
  <div class="findings">
    <div v-if="file && mendable.length > 1" class="all">
      <ElButton size="small" @click="show(mendable)"
        >Run the remedies of {{ plural(mendable.length, 'finding') }}…</ElButton
      >
    </div>
    <details v-for="g in groups" :key="g.level" :open="g.level !== 'note' || findings.length < 8">
      <summary>
        <State :state="g.state" :word="plural(g.count, g.level)" /> <span class="quiet">{{ g.means }}</span>
      </summary>
      <section v-for="t in g.tables.slice(0, more[g.level] ?? 100)" :key="t.table">
        <h3 v-if="t.table" class="mono">{{ t.table }}</h3>
        <ul>
          <li v-for="(f, i) in t.list" :key="i">
            {{ f.what }}
            <div v-if="f.remedy" class="remedy">
              <span class="quiet" :class="{ mono: f.statements?.length }">{{ f.remedy }}</span>
              <ElButton v-if="file && f.statements?.length" size="small" @click="show([f])">Run it…</ElButton>
            </div>
          </li>
        </ul>
      </section>
      <ElButton
        v-if="g.tables.length > (more[g.level] ?? 100)"
        size="small"
        @click="more[g.level] = (more[g.level] ?? 100) + 200"
        >Show more of {{ plural(g.tables.length, 'table') }}</ElButton
      >
    </details>
    <ElDialog
      v-model="asking"
      :title="asked.length === 1 ? 'Run the remedy' : 'Run the remedies'"
      width="640px"
      align-center
      append-to-body>
      <section v-for="s in sides" :key="s">
        <p>At the {{ s }}:</p>
        <pre class="statements" tabindex="0">{{
          statementsAt(s)
            .map((x) => x + ';')
            .join('\n')
        }}</pre>
        <ElForm label-width="130px" @submit.prevent>
          <ElFormItem label="As another user"
            ><ElInput
              v-model="as[s].user"
              autocomplete="off"
              :placeholder="`the feed's own, when empty`"
              :aria-label="`User at the ${s}`"
          /></ElFormItem>
          <ElFormItem v-if="as[s].user" label="Password"
            ><ElInput
              v-model="as[s].password"
              type="password"
              autocomplete="new-password"
              :aria-label="`Password at the ${s}`"
              placeholder="kept nowhere"
          /></ElFormItem>
        </ElForm>
      </section>
      <TroubleBox :trouble="refused" />
      <ul v-if="done.length" role="status">
        <li v-for="(d, i) in done" :key="i">
          <State :state="d.problem ? 'failed' : 'done'" /> <span class="mono">{{ d.statement }}</span>
          <div v-if="d.problem">{{ d.problem.what }} {{ d.problem.remedy }}</div>
          <div v-else-if="d.then" class="quiet">{{ d.then }}</div>
        </li>
      </ul>
      <template #footer>
        <ElButton @click="asking = false">Close</ElButton>
        <ElButton type="primary" :loading="busy === 'mend'" @click="run"
          >Run {{ plural(statementsAt().length, 'statement') }}</ElButton
        >
      </template>
    </ElDialog>
  </div>
</template>

<style scoped>
.all {
  margin-bottom: 6px;
}
summary {
  cursor: pointer;
  padding: 3px 0;
}
h3 {
  font-size: 12px;
  margin: 4px 0 0 18px;
  font-weight: 600;
}
ul {
  margin: 2px 0 8px;
  padding-left: 34px;
}
li {
  margin-bottom: 5px;
}
.remedy {
  display: flex;
  gap: 10px;
  align-items: baseline;
  justify-content: space-between;
}
.statements {
  background: var(--paper);
  border: 1px solid var(--line);
  border-radius: 3px;
  padding: 8px 10px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  font: 12px/1.5 var(--mono);
  max-height: 30vh;
  overflow: auto;
}
</style>
