/** The usual grounds; organisations have others, in words of their own. */
export const GROUNDS = ['malware', 'liability', 'productivity', 'bandwidth', 'compliance']
