/** deliveries are the ways in which mail of a group reaches somebody, in words. */
export const deliveries = {
  each: 'each message',
  digest: 'a digest of each day',
  conversations: 'conversations I take part in',
  none: 'no mail',
} as const;

export type Delivery = keyof typeof deliveries;
