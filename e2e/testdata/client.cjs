// An ordinary client of brokers in JavaScript: it writes to a topic, reads it with a group in two goes, and prints what it saw.
const { Kafka, CompressionTypes, Partitioners } = require("kafkajs");

const [address, topic] = process.argv.slice(2);

async function main() {
  const client = new Kafka({ clientId: "js", brokers: [address], logLevel: 1 });
  const admin = client.admin();
  await admin.connect();
  await admin.createTopics({ topics: [{ topic, numPartitions: 3 }] });
  const producer = client.producer({ idempotent: true, createPartitioner: Partitioners.DefaultPartitioner });
  await producer.connect();
  const send = (from, to) =>
    producer.send({
      topic,
      compression: CompressionTypes.GZIP,
      messages: Array.from({ length: to - from }, (_, i) => ({ key: `k${i}`, value: `${from + i}`, headers: { n: `${from + i}` } })),
    });
  const read = async (count) => {
    const consumer = client.consumer({ groupId: "js-readers" });
    await consumer.connect();
    await consumer.subscribe({ topic, fromBeginning: true });
    const seen = [];
    await new Promise((resolve) => {
      void consumer.run({
        eachMessage: async ({ message }) => {
          if (message.headers.n.toString() !== message.value.toString()) throw new Error("a header is another message's");
          seen.push(Number(message.value.toString()));
          if (seen.length === count) resolve();
        },
      });
    });
    await consumer.disconnect();
    return seen.sort((a, b) => a - b);
  };
  await send(0, 400);
  await send(400, 500);
  const first = await read(500);
  await send(500, 600);
  const second = await read(100);
  await producer.disconnect();
  await admin.disconnect();
  console.log(JSON.stringify({ first: [first[0], first[499], new Set(first).size], second: [second[0], second[99], new Set(second).size] }));
}

main().catch((e) => {
  console.error(e);
  process.exit(1);
});
