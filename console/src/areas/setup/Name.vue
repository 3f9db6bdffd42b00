<script setup lang="ts">
import { mdiCheck } from '@mdi/js'

import type { Schemas } from '../../api/client'
import { settable } from '../../api/settable.gen'
import { colours, type Description } from './describe'

/** Asks for a printer's name and colour, by which it is told from its neighbours. */
const { described } = defineProps<{ described: Schemas['Described'] }>()
const draft = defineModel<Description>({ required: true })
const put = (more: Description) => { draft.value = { ...draft.value, ...more } }
</script>

<template>
  <div class="stack">
    <v-text-field :model-value="draft.name" label="Name" :maxlength="settable.Description.name.longest" autocomplete="off" :disabled="described.by.name === 'file'" :hint="described.by.name === 'file' ? 'decided in diathermon.toml' : ''" persistent-hint data-field="name" @update:model-value="(name: string) => put({ name })" />
    <fieldset :disabled="described.by.colour === 'file'">
      <legend class="text-body-small mb-1">Its colour{{ described.by.colour === 'file' ? ', decided in diathermon.toml' : '' }}</legend>
      <div class="row">
        <button v-for="c in colours" :key="c.value" type="button" class="swatch" :style="{ background: c.value }" :aria-label="c.name" :aria-pressed="draft.colour === c.value" :title="c.name" @click="put({ colour: draft.colour === c.value ? '' : c.value })">
          <v-icon v-if="draft.colour === c.value" :icon="mdiCheck" class="chosen" aria-hidden="true" />
        </button>
        <label class="own">another <input type="color" :value="draft.colour || '#808080'" @change="e => put({ colour: (e.target as HTMLInputElement).value })"></label>
      </div>
    </fieldset>
  </div>
</template>

<style scoped>
fieldset { border: 0; padding: 0; margin: 0; }
.swatch { width: 44px; height: 44px; border-radius: 12px; border: 1px solid rgba(var(--v-border-color), 0.5); cursor: pointer; }
.swatch[aria-pressed=true] { outline: 3px solid rgb(var(--v-theme-primary)); outline-offset: 2px; }
.chosen { color: #fffdf8; }
.own { display: inline-flex; align-items: center; gap: 6px; }
.own input { width: 44px; height: 44px; border: 0; background: none; }
</style>
