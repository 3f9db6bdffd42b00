<script setup lang="ts">
import { at } from '../../api/base'
import type { Schemas } from '../../api/client'
import Copy from '../../ui/Copy.vue'
import Panel from '../../ui/Panel.vue'
import { date } from '../../words/time'

/** The certificate: what browsers and programs know it by. */
const { seal } = defineProps<{ seal: Schemas['Seal'] }>()
</script>

<template>
  <Panel title="Encryption" data-seal>
    <div class="stack">
      <p class="mb-0">{{ seal.own ? 'The host has made its certificate itself, so a browser asks once whether you trust it. Say yes if it shows this SHA-256.' : 'The host speaks https with the certificate that its owner has given it.' }} It is good until {{ date(seal.until) }}.</p>
      <Copy name="SHA-256 of the certificate" :text="seal.fingerprint" />
      <template v-if="seal.own">
        <Copy name="Key, for programs; it stays when the certificate is renewed" :text="seal.key" />
        <p class="mb-0"><a :href="at('/v1/addresses/certificate')" download="certificate.pem">The certificate itself</a>, for programs and devices that are to trust it.</p>
      </template>
    </div>
  </Panel>
</template>
