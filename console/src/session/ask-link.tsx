export { AskLink as default } from './password';
