<script setup lang="ts">
import { ElButton, ElInput, ElSkeleton } from 'element-plus'
import { computed, ref } from 'vue'
import { useActs } from '../act'
import { api, ask, type Connection, type Trouble } from '../api'
import { useLive } from '../live'
import ConnectionForm from '../parts/ConnectionForm.vue'
import LakeMarks from '../parts/LakeMarks.vue'
import SourceBurden from '../parts/SourceBurden.vue'
import SourceTables from '../parts/SourceTables.vue'
import State from '../parts/State.vue'
import TroubleBox from '../parts/TroubleBox.vue'
import When from '../parts/When.vue'
import { labelsOf, useNow } from '../words'

// Sources and warehouses are the same page: both are databases to sign in to.
const props = defineProps<{ side: 'sources' | 'warehouses' }>()
const noun = props.side === 'sources' ? 'source' : 'warehouse'
const list = ref<Connection[]>()
const kinds = ref<string[]>([])
const wrong = ref<Trouble>()
const browsing = ref('')
const weighing = ref('')
const marking = ref('')
const only = ref('')
const now = useNow()

const refresh = useLive(
  async () => {
    const [found, about] = await Promise.all([
      ask(api.GET(`/api/v1/${props.side}`)),
      kinds.value.length ? Promise.resolve({ data: undefined }) : ask(api.GET('/api/v1/about')),
    ])
    if (found.data) list.value = found.data
    if (about.data) kinds.value = about.data[props.side]
    wrong.value = found.trouble
  },
  (event) => event.kind === 'feed',
)

function address(c: Connection) {
  const s = c.settings
  if (s.bucket) return ['s3:/', s.bucket.name, s.bucket.folder].filter(Boolean).join('/')
  return s.path ?? `${s.host}:${s.port}/${s.database}`
}

const saysOf = (c: Connection) =>
  [c.name, c.kind, c.owner, c.team, address(c), ...labelsOf(c.labels)].filter(Boolean).join('\n').toLowerCase()
const shown = computed(() => list.value?.filter((c) => saysOf(c).includes(only.value.trim().toLowerCase())))

const { busy, refused, act } = useActs(refresh)
const acted = ref('') // what the last act was on

// What a test finds is kept with the connection, and shows there.
function test(name: string) {
  acted.value = ''
  return act(`test ${name}`, () => ask(api.POST(`/api/v1/${props.side}/{name}/test`, { params: { path: { name } } })))
}

function remove(name: string) {
  acted.value = name
  return act(
    `remove ${name}`,
    () => ask(api.DELETE(`/api/v1/${props.side}/{name}`, { params: { path: { name } } })),
    {
      title: `Remove the ${noun}`,
      text: `Remove the ${noun} ${name}? The database itself stays as it is.`,
      yes: 'Remove',
    },
  )
}

const entering = ref(false)
const changed = ref<Connection>()

function open(c?: Connection) {
  changed.value = c
  entering.value = true
}
</script>

<template>
  <div class="page">
    <div class="head">
      <div>
        <h1>{{ side === 'sources' ? 'Sources' : 'Warehouses' }}</h1>
        <div class="quiet">{{ side === 'sources' ? 'Databases that are read' : 'Databases that are written' }}</div>
      </div>
      <span class="grow"></span>
      <ElInput
        v-if="(list?.length ?? 0) > 3"
        v-model="only"
        clearable
        class="only"
        placeholder="Name, owner, label, kind…"
        aria-label="Show only those with" />
      <ElButton type="primary" @click="open()">Add a {{ noun }}…</ElButton>
    </div>
    <TroubleBox :trouble="wrong" />
    <ElSkeleton v-if="!list && !wrong" :rows="4" animated />
    <section v-if="list?.length === 0" class="sheet pad quiet">No {{ noun }} yet. Add one to begin.</section>
    <section v-if="list?.length && shown?.length === 0" class="sheet pad quiet">No {{ noun }} is like that.</section>
    <section v-for="c in shown" :key="c.name" class="sheet" :aria-label="c.name">
      <header>
        <h2>{{ c.name }}</h2>
        <span class="quiet">{{ c.kind }}</span>
        <span v-if="c.owner || c.team" class="quiet">{{ [c.owner, c.team].filter(Boolean).join(', ') }}</span>
        <span v-for="l in labelsOf(c.labels)" :key="l" class="label">{{ l }}</span>
        <span class="grow"></span>
        <ElButton size="small" :loading="busy === `test ${c.name}`" @click="test(c.name)">Test</ElButton>
        <ElButton
          v-if="side === 'sources'"
          size="small"
          :aria-expanded="browsing === c.name"
          @click="browsing = browsing === c.name ? '' : c.name"
          >{{ browsing === c.name ? 'Hide tables' : 'Tables' }}</ElButton
        >
        <ElButton
          v-if="side === 'sources'"
          size="small"
          :aria-expanded="weighing === c.name"
          @click="weighing = weighing === c.name ? '' : c.name"
          >{{ weighing === c.name ? 'Hide burden' : 'Burden' }}</ElButton
        >
        <ElButton
          v-if="side === 'warehouses' && c.kind === 'iceberg'"
          size="small"
          :aria-expanded="marking === c.name"
          @click="marking = marking === c.name ? '' : c.name"
          >{{ marking === c.name ? 'Hide marks' : 'Marks' }}</ElButton
        >
        <ElButton size="small" @click="open(c)">Change…</ElButton>
        <ElButton size="small" text @click="remove(c.name)">Remove…</ElButton>
      </header>
      <dl class="facts">
        <div>
          <dt>At</dt>
          <dd class="mono">{{ address(c) }}</dd>
        </div>
        <div v-if="c.settings.user">
          <dt>User</dt>
          <dd>{{ c.settings.user }}</dd>
        </div>
        <div>
          <dt>Last test</dt>
          <dd v-if="!c.tested_at" class="quiet">never</dd>
          <dd v-else>
            <State :state="c.problem ? 'failed' : 'works'" />{{ ' '
            }}<span class="quiet">{{ c.version }}, <When :time="c.tested_at" :now="now" /></span>
          </dd>
        </div>
        <div>
          <dt>Feeds</dt>
          <dd>
            <template v-for="(f, i) in c.feeds" :key="f"
              >{{ i ? ', ' : '' }}<RouterLink :to="`/feeds/${f}`">{{ f }}</RouterLink></template
            ><span v-if="!c.feeds.length" class="quiet">none</span>
          </dd>
        </div>
      </dl>
      <TroubleBox :trouble="c.problem" />
      <TroubleBox v-if="acted === c.name" :trouble="refused" />
      <LakeMarks v-if="marking === c.name" :warehouse="c.name" />
      <SourceBurden v-if="weighing === c.name" :source="c.name" />
      <SourceTables v-if="browsing === c.name" :source="c.name" />
    </section>
    <ConnectionForm v-model="entering" :side="side" :kinds="kinds" :connection="changed" @saved="test" />
  </div>
</template>
