export { JoinByLink as default } from './link';
