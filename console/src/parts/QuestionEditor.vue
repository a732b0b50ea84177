<script setup lang="ts">
import { autocompletion } from '@codemirror/autocomplete'
import { PostgreSQL, sql } from '@codemirror/lang-sql'
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { Compartment, EditorState, Prec } from '@codemirror/state'
import { EditorView, keymap } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { basicSetup } from 'codemirror'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'

// An editor of SQL that completes schemas, tables and columns. Ctrl-Enter asks.
const props = defineProps<{ names: Record<string, Record<string, string[]>> }>()
const text = defineModel<string>({ required: true })
const emit = defineEmits<{ ask: [] }>()
const place = ref<HTMLElement>()
let view: EditorView | undefined

const language = new Compartment()
const spoken = () =>
  sql({
    dialect: PostgreSQL,
    schema: props.names,
    upperCaseKeywords: true,
    keywordCompletion: (label, type) => ({ label, type }),
  })

const look = EditorView.theme({
  '&': { fontSize: '13px', backgroundColor: 'var(--sheet)', color: 'var(--ink)' },
  '&.cm-focused': { outline: '2px solid var(--act)', outlineOffset: '-2px' },
  '.cm-gutter': { minHeight: '124px' },
  '.cm-content': { fontFamily: 'var(--mono)', minHeight: '124px', caretColor: 'var(--ink)' },
  '.cm-scroller': { maxHeight: '40vh', overflow: 'auto' },
  '.cm-gutters': { backgroundColor: 'var(--paper)', color: 'var(--ink-2)', border: 'none' },
  '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'transparent' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '.cm-selectionBackground, &.cm-focused .cm-selectionBackground': { backgroundColor: 'var(--act-soft) !important' },
  '.cm-matchingBracket': { backgroundColor: 'var(--warn-soft) !important' },
  '.cm-tooltip': { backgroundColor: 'var(--sheet)', color: 'var(--ink)', border: '1px solid var(--line)' },
  '.cm-tooltip-autocomplete ul li[aria-selected]': { backgroundColor: 'var(--act)', color: 'var(--sheet)' },
})
const colours = HighlightStyle.define([
  { tag: tags.keyword, color: 'var(--act)', fontWeight: '600' },
  { tag: [tags.string, tags.special(tags.string)], color: 'var(--good)' },
  { tag: [tags.number, tags.bool, tags.null], color: 'var(--warn)' },
  { tag: [tags.lineComment, tags.blockComment], color: 'var(--ink-2)', fontStyle: 'italic' },
])

onMounted(() => {
  view = new EditorView({
    parent: place.value!,
    state: EditorState.create({
      doc: text.value,
      extensions: [
        Prec.highest(
          keymap.of([
            {
              key: 'Mod-Enter',
              run: () => {
                emit('ask')
                return true
              },
            },
          ]),
        ),
        basicSetup,
        autocompletion({ icons: false }),
        language.of(spoken()),
        look,
        syntaxHighlighting(colours),
        EditorView.lineWrapping,
        EditorView.contentAttributes.of({ 'aria-label': 'The question', spellcheck: 'false' }),
        EditorView.updateListener.of((u) => {
          if (u.docChanged) text.value = u.state.doc.toString()
        }),
      ],
    }),
  })
})
onBeforeUnmount(() => view?.destroy())
watch(
  () => props.names,
  () => view?.dispatch({ effects: language.reconfigure(spoken()) }),
)
watch(text, (now) => {
  if (view && now !== view.state.doc.toString())
    view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: now } })
})

/** Puts a text where the person writes. */
function insert(what: string) {
  if (!view) return
  view.dispatch(view.state.replaceSelection(what))
  view.focus()
}

defineExpose({ insert })
</script>

<template><div ref="place" class="editor"></div></template>
