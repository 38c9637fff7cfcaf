import { HistoryList } from '../shared/history';
import { useGroup } from './page';

export default function GroupHistory() {
  return <HistoryList group={useGroup().address} />;
}
