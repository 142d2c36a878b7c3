package wire

import (
	"crypto/rand"
	"encoding/binary"
	"errors"
	"sync"
	"time"

	"fiume/internal/service/access"
	"fiume/internal/topiclog"

	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kmsg"
)

const unsupportedVersion = 35

// Errors of the protocol that are answered.
var (
	unknownTopic = kerr.UnknownTopicOrPartition.Code
	outOfRange   = kerr.OffsetOutOfRange.Code
	onDisk       = kerr.KafkaStorageError.Code
)

const (
	// mostFetched is how many bytes an answer to a fetch has, about.
	mostFetched = 16 << 20
	// longestFetch is how long a fetch waits for messages.
	longestFetch = 500 * time.Millisecond
	// headBytes is how much of a batch tells its length.
	headBytes = 12
)

// produce appends the batches of a request, and waits for the disk when it is finished.
func (s *Server) produce(r *request, q *kmsg.ProduceRequest) (finish, error) {
	resp := q.ResponseKind().(*kmsg.ProduceResponse)
	var waits []func() // fill in what the disk says
	for _, t := range q.Topics {
		rt := kmsg.NewProduceResponseTopic()
		rt.Topic = t.Topic
		rt.Partitions = make([]kmsg.ProduceResponseTopicPartition, len(t.Partitions))
		for i, p := range t.Partitions {
			rp := &rt.Partitions[i]
			*rp = kmsg.NewProduceResponseTopicPartition()
			rp.Partition, rp.BaseOffset, rp.LogAppendTime = p.Partition, -1, -1
			part, code := s.find(r, access.Write, t.Topic, p.Partition)
			switch {
			case q.TransactionID != nil && *q.TransactionID != "":
				rp.ErrorCode = kerr.TransactionalIDAuthorizationFailed.Code
				continue
			case part == nil:
				rp.ErrorCode = code
				continue
			}
			rp.LogStartOffset = part.First()
			base, waiting, err := appendAll(part, p.Records)
			rp.BaseOffset = base
			if err != nil {
				refuse(rp, err)
			}
			if waiting != nil {
				waits = append(waits, func() {
					if err := waiting(); err != nil {
						refuse(rp, err)
					}
				})
			}
		}
		resp.Topics = append(resp.Topics, rt)
	}
	return func() kmsg.Response {
		var wg sync.WaitGroup
		for _, w := range waits[min(1, len(waits)):] {
			wg.Go(w)
		}
		if len(waits) > 0 {
			waits[0]()
		}
		wg.Wait()
		if q.Acks == 0 {
			return nil
		}
		return resp
	}, nil
}

// appendAll appends the batches in b, one behind the other.
func appendAll(p *topiclog.Partition, b []byte) (base int64, waiting func() error, err error) {
	base = -1
	if len(b) == 0 {
		return -1, nil, &topiclog.BadBatch{Reason: "the request has no batch"}
	}
	for len(b) > 0 {
		if len(b) < headBytes+5 {
			return base, waiting, &topiclog.BadBatch{Reason: "the batch is cut off"}
		}
		if b[16] < 2 {
			return base, waiting, errOldFormat
		}
		n := int64(int32(binary.BigEndian.Uint32(b[8:]))) + headBytes
		if n < headBytes || n > int64(len(b)) {
			return base, waiting, &topiclog.BadBatch{Reason: "the batch is cut off"}
		}
		at, wait, err := p.AppendBatch(b[:n:n])
		if err != nil {
			return base, waiting, err
		}
		if base < 0 {
			base = at
		}
		waiting = wait // the last one covers those before it
		b = b[n:]
	}
	return base, waiting, nil
}

var errOldFormat = errors.New("the messages are of an older format than version 2 of batches")

// refuse says why a batch was not taken.
func refuse(rp *kmsg.ProduceResponseTopicPartition, err error) {
	rp.BaseOffset = -1
	text := err.Error()
	rp.ErrorMessage = &text
	var bad *topiclog.BadBatch
	switch {
	case errors.Is(err, errOldFormat):
		rp.ErrorCode = kerr.UnsupportedForMessageFormat.Code
	case errors.Is(err, topiclog.ErrSequence):
		rp.ErrorCode = kerr.OutOfOrderSequenceNumber.Code
	case errors.Is(err, topiclog.ErrFenced):
		rp.ErrorCode = kerr.InvalidProducerEpoch.Code
	case errors.As(err, &bad) && bad.Time:
		rp.ErrorCode = kerr.InvalidTimestamp.Code
	case errors.As(err, &bad):
		rp.ErrorCode = kerr.InvalidRecord.Code
	default:
		rp.ErrorCode = onDisk
	}
}

// initProducerID gives a producer a number of its own, by which batches that it sends again are known. It is drawn, so that nothing needs to be kept of it.
func initProducerID(r *request, q *kmsg.InitProducerIDRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.InitProducerIDResponse)
	resp.ProducerID, resp.ProducerEpoch = -1, -1
	switch {
	case !r.caller().Somewhere(access.Write):
		resp.ErrorCode = kerr.ClusterAuthorizationFailed.Code
	case q.TransactionalID != nil && *q.TransactionalID != "":
		resp.ErrorCode = kerr.TransactionalIDAuthorizationFailed.Code
	case q.ProducerID >= 0 && q.ProducerEpoch >= 0 && q.ProducerEpoch < 1<<15-2:
		resp.ProducerID, resp.ProducerEpoch = q.ProducerID, q.ProducerEpoch+1
	default:
		var b [8]byte
		_, _ = rand.Read(b[:]) // it does not fail
		resp.ProducerID, resp.ProducerEpoch = int64(binary.BigEndian.Uint64(b[:])>>1), 0
	}
	return resp
}

// fetch gives messages, and waits a little where there are not enough.
func (s *Server) fetch(r *request, q *kmsg.FetchRequest) kmsg.Response {
	until := time.NewTimer(min(time.Duration(max(q.MaxWaitMillis, 0))*time.Millisecond, longestFetch))
	defer until.Stop()
	more := make(chan struct{}, 1)
	listening := false
	for {
		resp, bytes, failed := s.fetchNow(r, q)
		if bytes >= int(q.MinBytes) || failed || q.MaxWaitMillis <= 0 {
			return resp
		}
		if !listening {
			listening = true
			for _, t := range q.Topics {
				for _, p := range t.Partitions {
					if part, _ := s.find(r, access.Read, t.Topic, p.Partition); part != nil {
						defer part.OnData(func() {
							select {
							case more <- struct{}{}:
							default:
							}
						})()
					}
				}
			}
			continue // something may have come before
		}
		select {
		case <-more:
		case <-until.C:
			resp, _, _ := s.fetchNow(r, q)
			return resp
		case <-r.ctx.Done():
			return resp
		}
	}
}

// fetchNow gives what there is.
func (s *Server) fetchNow(r *request, q *kmsg.FetchRequest) (resp *kmsg.FetchResponse, bytes int, failed bool) {
	resp = q.ResponseKind().(*kmsg.FetchResponse)
	most := mostFetched
	if q.MaxBytes > 0 {
		most = min(most, int(q.MaxBytes))
	}
	if q.SessionEpoch > 0 { // nothing is kept from one request to the next
		resp.ErrorCode = kerr.FetchSessionIDNotFound.Code
		return resp, 0, true
	}
	for _, t := range q.Topics {
		rt := kmsg.NewFetchResponseTopic()
		rt.Topic = t.Topic
		for _, p := range t.Partitions {
			rp := kmsg.NewFetchResponseTopicPartition()
			rp.Partition, rp.HighWatermark, rp.LastStableOffset, rp.LogStartOffset, rp.PreferredReadReplica = p.Partition, -1, -1, -1, -1
			part, code := s.find(r, access.Read, t.Topic, p.Partition)
			if part == nil {
				rp.ErrorCode, failed = code, true
				rt.Partitions = append(rt.Partitions, rp)
				continue
			}
			first, next := part.First(), part.Next()
			rp.HighWatermark, rp.LastStableOffset, rp.LogStartOffset = next, next, first
			rp.RecordBatches = []byte{}
			switch {
			case p.FetchOffset < first || p.FetchOffset > next:
				rp.ErrorCode, failed = outOfRange, true
			case p.FetchOffset < next && (bytes == 0 || bytes < most):
				b, err := readOn(part, p.FetchOffset, next, min(int(max(p.PartitionMaxBytes, 1)), max(most-bytes, 1)))
				switch {
				case errors.Is(err, topiclog.ErrGone):
					rp.ErrorCode, failed = outOfRange, true
				case err != nil:
					rp.ErrorCode, failed = onDisk, true
				}
				rp.RecordBatches = b
				bytes += len(b)
			}
			rt.Partitions = append(rt.Partitions, rp)
		}
		resp.Topics = append(resp.Topics, rt)
	}
	return resp, bytes, failed
}

// readOn reads whole batches from an offset on, past what is lost.
func readOn(p *topiclog.Partition, from, end int64, most int) ([]byte, error) {
	for from < end {
		b, next, err := p.Read(from, nil, most)
		if err != nil {
			return []byte{}, err
		}
		if len(b) > 0 {
			topiclog.Foreign(b)
			return b, nil
		}
		if next == from {
			break
		}
		from = next
	}
	return []byte{}, nil
}

// listOffsets finds the first and last offsets, and those of times.
func (s *Server) listOffsets(r *request, q *kmsg.ListOffsetsRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.ListOffsetsResponse)
	for _, t := range q.Topics {
		rt := kmsg.NewListOffsetsResponseTopic()
		rt.Topic = t.Topic
		for _, p := range t.Partitions {
			rp := kmsg.NewListOffsetsResponseTopicPartition()
			rp.Partition, rp.Offset, rp.Timestamp, rp.LeaderEpoch = p.Partition, -1, -1, 0
			part, code := s.find(r, access.Read, t.Topic, p.Partition)
			switch {
			case part == nil:
				rp.ErrorCode = code
			case part.Err() != nil:
				rp.ErrorCode = onDisk
			case p.Timestamp == -1:
				rp.Offset = part.Next()
			case p.Timestamp == -2:
				rp.Offset = part.First()
			case p.Timestamp < 0:
				rp.ErrorCode = kerr.UnsupportedVersion.Code
			default:
				rp.Offset, rp.Timestamp, rp.ErrorCode = offsetAt(part, p.Timestamp)
			}
			rt.Partitions = append(rt.Partitions, rp)
		}
		resp.Topics = append(resp.Topics, rt)
	}
	return resp
}

// offsetAt finds the first message at a time, in milliseconds, or later; -1 where there is none.
func offsetAt(p *topiclog.Partition, ms int64) (offset, at int64, code int16) {
	ms = min(ms, 253_402_300_799_999)
	offset, err := p.OffsetAt(ms * 1000)
	if err != nil {
		return -1, -1, onDisk
	}
	if offset >= p.Next() {
		return -1, -1, 0
	}
	b, _, err := p.Read(offset, nil, 1)
	at = -1
	if err == nil {
		err = topiclog.Views(b, offset, func(v topiclog.View) {
			if at < 0 {
				offset, at = v.Offset, v.At/1000
			}
		})
	}
	if err != nil {
		return -1, -1, onDisk
	}
	return offset, at, 0
}
