<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { ref } from 'vue'
import { useActs } from '../act'
import { api, ask, type Schemas, type Trouble } from '../api'
import { count, useNow } from '../words'
import TroubleBox from './TroubleBox.vue'
import When from './When.vue'

// States of a lake's tables that are kept under names.
const props = defineProps<{ warehouse: string }>()
const marks = ref<Schemas['Mark'][]>()
const wrong = ref<Trouble>()
const name = ref('')
const keep = ref('')
const now = useNow()

async function look() {
  const { data, trouble } = await ask(
    api.GET('/api/v1/warehouses/{name}/marks', { params: { path: { name: props.warehouse } } }),
  )
  if (data) marks.value = data
  wrong.value = trouble
}
void look()

const { busy, refused, act } = useActs(look)
async function add() {
  const { trouble } = await act('add', () =>
    ask(
      api.POST('/api/v1/warehouses/{name}/marks', {
        params: { path: { name: props.warehouse } },
        body: { name: name.value.trim(), keep: keep.value.trim() || undefined },
      }),
    ),
  )
  if (!trouble) name.value = keep.value = ''
}
const remove = (mark: string) =>
  act(
    `remove ${mark}`,
    () =>
      ask(
        api.DELETE('/api/v1/warehouses/{name}/marks/{mark}', { params: { path: { name: props.warehouse, mark } } }),
      ),
    {
      title: 'Remove the mark',
      text: `Let what is kept as ${mark} go? Upkeep then removes its files.`,
      yes: 'Remove',
    },
  )
</script>

<template>
  <TroubleBox :trouble="wrong" />
  <form class="pad add" @submit.prevent="add">
    <span>Keep what all tables hold now as</span>
    <ElInput v-model="name" size="small" class="name" placeholder="before-the-move" aria-label="Name of the mark" />
    <span>for</span>
    <ElInput v-model="keep" size="small" class="for" placeholder="ever; or 90d" aria-label="For how long" />
    <ElButton size="small" native-type="submit" :disabled="!name.trim()" :loading="busy === 'add'">Keep</ElButton>
  </form>
  <TroubleBox :trouble="refused" />
  <p v-if="marks && !marks.length" class="pad quiet">Nothing is kept under a name yet.</p>
  <table v-else-if="marks" class="rows">
    <thead>
      <tr>
        <th scope="col">Mark</th>
        <th scope="col">Last changed</th>
        <th scope="col">Kept until</th>
        <th class="n" scope="col">Tables</th>
        <th scope="col"><span class="visually-hidden">Acts</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="m in marks" :key="m.name">
        <td class="mono">{{ m.name }}</td>
        <td class="nowrap"><When :time="m.at" :now="now" /></td>
        <td class="nowrap">
          <When v-if="m.until" :time="m.until" :now="now" /><span v-else class="quiet">it is removed</span>
        </td>
        <td class="n">{{ count(m.tables) }}</td>
        <td class="n">
          <ElButton size="small" text :disabled="!!busy" :aria-label="`Remove ${m.name}`" @click="remove(m.name)"
            >Remove…</ElButton
          >
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.add {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
}
.name {
  width: 200px;
}
.for {
  width: 120px;
}
</style>
