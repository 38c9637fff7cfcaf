export { Invitation as default } from './offer';
