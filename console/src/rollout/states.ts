import type { RolloutState } from '@/api/client'
import type { IconName } from '@/base/Icon.vue'
import type { Tone } from '@/base/tones'

/** How states of roll-out are shown. */
export const SHOWN: Record<RolloutState['state'], { icon: IconName; tone: Tone }> = {
  current: { icon: 'check', tone: 'good' },
  waiting: { icon: 'hourglass', tone: 'coming' },
  failed: { icon: 'cross', tone: 'bad' },
  silent: { icon: 'wifiOff', tone: 'away' },
}
