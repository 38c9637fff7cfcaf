import { api, ask } from '../api/client';
import { useList } from '../lib/use-list';
import { HistoryEntries } from '../shared/history';
import { ListPage } from '../shared/list-page';
import { Seal } from './seal';

export default function HistoryPage() {
  const list = useList({
    key: ['history', 'all'],
    filters: ['filter'],
    read: (query, cursor) => ask(api.GET('/api/v1/history', { params: { query: { ...query, cursor, limit: 50 } } })),
  });
  return (
    <ListPage name="history" title="History" count="" list={list} exported={list.query}>
      <Seal />
      <HistoryEntries list={list} link />
    </ListPage>
  );
}
