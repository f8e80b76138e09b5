// What a page does: a line to the service, and a channel.
import { connect } from '@nine-bells/client';

const line = connect(process.argv[2]);
const quay = line.enter('quay');
quay.addEventListener('message', ({ detail }) => {
  console.log(detail.data.text);
  line.close();
});
await quay.ready;
await quay.publish({ text: 'Quay is open' });
