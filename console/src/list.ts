import { ref, watch, type Ref } from 'vue'
import type { Answer, Trouble } from './api'

/** A list of the API, looked up now and whenever what is given by when changes. */
export function useList<T>(when: () => unknown, call: () => Promise<Answer<T[] | null>>) {
  const list = ref([]) as Ref<T[]>
  const wrong = ref<Trouble>()
  watch(
    when,
    async () => {
      const { data, trouble } = await call()
      list.value = data ?? []
      wrong.value = trouble
    },
    { immediate: true },
  )
  return { list, wrong }
}
