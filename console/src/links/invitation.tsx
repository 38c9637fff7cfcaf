export { Invitation as default } from './link';
