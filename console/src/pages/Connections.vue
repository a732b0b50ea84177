<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElForm, ElFormItem, ElInput, ElInputNumber, ElOption, ElSelect, ElSkeleton } from 'element-plus'
import { computed, ref } from 'vue'
import { useActs } from '../act'
import { api, ask, type Connection, type Schemas, type Trouble } from '../api'
import { useLive } from '../live'
import SourceTables from '../parts/SourceTables.vue'
import State from '../parts/State.vue'
import TroubleBox from '../parts/TroubleBox.vue'
import When from '../parts/When.vue'
import { useNow } from '../words'

// Sources and warehouses are the same page: both are databases to sign in to.
const props = defineProps<{ side: 'sources' | 'warehouses' }>()
const noun = props.side === 'sources' ? 'source' : 'warehouse'
const list = ref<Connection[]>()
const kinds = ref<string[]>([])
const wrong = ref<Trouble>()
const browsing = ref('')
const now = useNow()

const refresh = useLive(
  async () => {
    const [found, about] = await Promise.all([ask(api.GET(`/api/v1/${props.side}`)), kinds.value.length ? Promise.resolve({ data: undefined }) : ask(api.GET('/api/v1/about'))])
    if (found.data) list.value = found.data
    if (about.data) kinds.value = about.data[props.side]
    wrong.value = found.trouble
  },
  (event) => event.kind === 'feed',
)

function address(c: Connection) {
  const s = c.settings
  return s.path ?? `${s.host}:${s.port}/${s.database}`
}

const { busy, refused, act } = useActs(refresh)
const acted = ref('') // what the last act was on

// What a test finds is kept with the connection, and shows there.
function test(name: string) {
  acted.value = ''
  return act(`test ${name}`, () => ask(api.POST(`/api/v1/${props.side}/{name}/test`, { params: { path: { name } } })))
}

function remove(name: string) {
  acted.value = name
  return act(`remove ${name}`, () => ask(api.DELETE(`/api/v1/${props.side}/{name}`, { params: { path: { name } } })), {
    title: `Remove the ${noun}`,
    text: `Remove the ${noun} ${name}? The database itself stays as it is.`,
    yes: 'Remove',
  })
}

const usual: Record<string, string> = { sources: 'postgresql', warehouses: 'duckdb' }
const blank = () => ({ name: '', kind: kinds.value.find((k) => k === usual[props.side]) ?? '', host: '127.0.0.1', port: undefined as number | undefined, database: '', user: '', password: '', password_in_clear: false, tls: '', ca: '', path: '' })
const form = ref(blank())
const adding = ref(false)
const changing = ref(false)
const answer = ref('')
const entering = useActs()
const inFile = computed(() => form.value.kind === 'duckdb')

function open(c?: Connection) {
  answer.value = ''
  entering.refused.value = undefined
  changing.value = c !== undefined
  form.value = blank()
  if (c) Object.assign(form.value, c.settings, { name: c.name, kind: c.kind })
  adding.value = true
}

const body = computed<Schemas['NewConnection']>(() => {
  const f = form.value
  const settings = inFile.value
    ? { path: f.path }
    : { host: f.host, port: f.port, database: f.database, user: f.user, password: f.password || undefined, tls: (f.tls || undefined) as 'off' | undefined, ca: f.ca || undefined, password_in_clear: f.password_in_clear || undefined }
  return { name: f.name, kind: f.kind, settings }
})

async function attempt() {
  answer.value = ''
  const { data } = await entering.act('try', () => ask(api.POST(`/api/v1/${props.side}/try`, { body: body.value })))
  if (data) answer.value = `It answers: ${data.version}.`
}

async function save() {
  const call = () =>
    changing.value
      ? ask(api.PUT(`/api/v1/${props.side}/{name}`, { params: { path: { name: form.value.name } }, body: body.value }))
      : ask(api.POST(`/api/v1/${props.side}`, { body: body.value }))
  const { data } = await entering.act('save', call)
  if (!data) return
  adding.value = false
  await test(form.value.name)
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
      <ElButton type="primary" @click="open()">Add a {{ noun }}…</ElButton>
    </div>
    <TroubleBox :trouble="wrong" />
    <ElSkeleton v-if="!list && !wrong" :rows="4" animated />
    <section v-if="list?.length === 0" class="sheet pad quiet">No {{ noun }} yet. Add one to begin.</section>
    <section v-for="c in list" :key="c.name" class="sheet" :aria-label="c.name">
      <header>
        <h2>{{ c.name }}</h2>
        <span class="quiet">{{ c.kind }}</span>
        <span class="grow"></span>
        <ElButton size="small" :loading="busy === `test ${c.name}`" @click="test(c.name)">Test</ElButton>
        <ElButton v-if="side === 'sources'" size="small" :aria-expanded="browsing === c.name" @click="browsing = browsing === c.name ? '' : c.name">{{ browsing === c.name ? 'Hide tables' : 'Tables' }}</ElButton>
        <ElButton size="small" @click="open(c)">Change…</ElButton>
        <ElButton size="small" text @click="remove(c.name)">Remove…</ElButton>
      </header>
      <dl class="facts">
        <div><dt>At</dt><dd class="mono">{{ address(c) }}</dd></div>
        <div v-if="c.settings.user"><dt>User</dt><dd>{{ c.settings.user }}</dd></div>
        <div>
          <dt>Last test</dt>
          <dd v-if="!c.tested_at" class="quiet">never</dd>
          <dd v-else><State :state="c.problem ? 'failed' : 'works'" /> <span class="quiet">{{ c.version }}, <When :time="c.tested_at" :now="now" /></span></dd>
        </div>
        <div><dt>Feeds</dt><dd><template v-for="(f, i) in c.feeds" :key="f">{{ i ? ', ' : '' }}<RouterLink :to="`/feeds/${f}`">{{ f }}</RouterLink></template><span v-if="!c.feeds.length" class="quiet">none</span></dd></div>
      </dl>
      <TroubleBox :trouble="c.problem" />
      <TroubleBox v-if="acted === c.name" :trouble="refused" />
      <SourceTables v-if="browsing === c.name" :source="c.name" />
    </section>
    <ElDialog v-model="adding" :title="changing ? `Change the ${noun} ${form.name}` : `Add a ${noun}`" width="560px" align-center append-to-body>
      <ElForm label-width="130px" @submit.prevent="save">
        <ElFormItem label="Name"><ElInput v-model="form.name" :disabled="changing" placeholder="lower-case letters, digits, hyphens" /></ElFormItem>
        <ElFormItem label="Kind"><ElSelect v-model="form.kind" aria-label="Kind"><ElOption v-for="k in kinds" :key="k" :value="k" :label="k" /></ElSelect></ElFormItem>
        <ElFormItem v-if="inFile" label="Path of the file"><ElInput v-model="form.path" class="mono" placeholder="lake.duckdb, below the service's folder for warehouses" /></ElFormItem>
        <template v-else>
          <ElFormItem label="Host and port"><div class="pair"><ElInput v-model="form.host" aria-label="Host" /><ElInputNumber v-model="form.port" :min="1" :max="65535" :controls="false" placeholder="usual" aria-label="Port" /></div></ElFormItem>
          <ElFormItem label="Database"><ElInput v-model="form.database" /></ElFormItem>
          <ElFormItem label="User"><ElInput v-model="form.user" autocomplete="off" /></ElFormItem>
          <ElFormItem label="Password"><ElInput v-model="form.password" type="password" autocomplete="new-password" :placeholder="changing ? 'as it is, while it goes to the same server' : ''" /></ElFormItem>
          <ElFormItem label="TLS">
            <ElSelect v-model="form.tls" :empty-values="[null]" aria-label="TLS mode">
              <ElOption value="" label="off on this machine, verified in full elsewhere" />
              <ElOption v-for="m in ['off', 'require', 'verify-ca', 'verify-full']" :key="m" :value="m" :label="m" />
            </ElSelect>
          </ElFormItem>
          <ElFormItem v-if="form.tls.startsWith('verify')" label="Trusted CA (PEM)"><ElInput v-model="form.ca" type="textarea" :rows="3" placeholder="the system's, when empty" /></ElFormItem>
          <ElFormItem v-if="!form.tls.startsWith('verify')" label=" "><ElCheckbox v-model="form.password_in_clear">Let the password go in the clear, or by MD5, if the server asks for it so</ElCheckbox></ElFormItem>
        </template>
      </ElForm>
      <TroubleBox :trouble="entering.refused.value" />
      <p v-if="answer" role="status">{{ answer }}</p>
      <template #footer>
        <ElButton :loading="entering.busy.value === 'try'" @click="attempt">Test</ElButton>
        <ElButton type="primary" :loading="entering.busy.value === 'save'" @click="save">{{ changing ? 'Change' : 'Add' }}</ElButton>
      </template>
    </ElDialog>
  </div>
</template>

<style scoped>
.pair { display: flex; gap: 8px; width: 100%; }
</style>
