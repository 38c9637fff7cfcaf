export { JoinByLink as default } from './offer';
