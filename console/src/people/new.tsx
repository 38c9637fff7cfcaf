export { NewPerson as default } from './page';
