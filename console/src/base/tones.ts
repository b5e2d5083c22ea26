/** How a state of machines is to be looked at: all is well, on its way, gone wrong, or out of reach. */
export type Tone = 'good' | 'coming' | 'bad' | 'away'
