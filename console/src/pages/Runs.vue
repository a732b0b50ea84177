<script setup lang="ts">
import { ElButton, ElOption, ElSelect, ElSkeleton, ElSwitch } from 'element-plus'
import { ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask, type Run, type Trouble } from '../api'
import { useLive } from '../live'
import RunsList from '../parts/RunsList.vue'
import TroubleBox from '../parts/TroubleBox.vue'
import { useNow } from '../words'

const route = useRoute()
const runs = ref<Run[]>()
const feeds = ref<string[]>([])
const feed = ref(String(route.query.feed ?? ''))
const changed = ref(true)
const limit = ref(50)
const wrong = ref<Trouble>()
const now = useNow()

const refresh = useLive(async () => {
  const [list, known] = await Promise.all([
    ask(
      api.GET('/api/v1/runs', {
        params: { query: { feed: feed.value, changed: changed.value, limit: limit.value } },
      }),
    ),
    feeds.value.length ? Promise.resolve({ data: undefined, trouble: undefined }) : ask(api.GET('/api/v1/feeds')),
  ])
  if (list.data) runs.value = list.data
  if (known.data) feeds.value = known.data.map((f) => f.name)
  wrong.value = list.trouble
})
watch([feed, changed, limit], refresh)
</script>

<template>
  <div class="page">
    <div class="head">
      <h1>Runs</h1>
      <span class="grow"></span>
      <ElSwitch
        v-model="changed"
        aria-label="Only those that read rows or did not succeed"
        active-text="Only those that read rows or did not succeed" />
      <ElSelect v-model="feed" placeholder="All feeds" :empty-values="[null]" style="width: 220px" aria-label="Feed">
        <ElOption value="" label="All feeds" />
        <ElOption v-for="f in feeds" :key="f" :value="f" :label="f" />
      </ElSelect>
    </div>
    <TroubleBox :trouble="wrong" />
    <ElSkeleton v-if="!runs && !wrong" :rows="8" animated />
    <section v-if="runs" class="sheet">
      <RunsList v-if="runs.length" :runs="runs" :now="now" feed />
      <p v-else class="pad quiet">No such run yet.</p>
    </section>
    <ElButton v-if="runs && runs.length >= limit && limit < 500" @click="limit += 100">Show older ones</ElButton>
  </div>
</template>
