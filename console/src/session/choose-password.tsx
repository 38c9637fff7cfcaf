export { ChoosePassword as default } from './password';
