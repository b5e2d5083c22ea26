import type { IconName } from '@/base/Icon.vue'
import type { Tone } from '@/base/tones'
import type { Receipt } from './usePushes'

/** How states of receipts are shown. */
export const SHOWN: Record<Receipt['state'], { icon: IconName; tone: Tone }> = {
  waiting: { icon: 'wifiOff', tone: 'away' },
  told: { icon: 'hourglass', tone: 'coming' },
  fetched: { icon: 'hourglass', tone: 'coming' },
  applied: { icon: 'check', tone: 'good' },
  failed: { icon: 'cross', tone: 'bad' },
}
