package wire

import (
	"slices"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/service/access"

	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kmsg"
)

// mayCommit says whether one may say how far its group is: a member of the generation, or, where there are no members, anyone.
func (g *groups) mayCommit(group, id string, instance *string, generation int32) int16 {
	g.mu.Lock()
	defer g.mu.Unlock()
	if x := g.by[group]; generation < 0 && id == "" && (x == nil || len(x.members) == 0) {
		return 0
	}
	x, m, code := g.member(group, id, instance, generation)
	if code == 0 {
		m.seen = time.Now()
		if x.state == stateCompleting { // it does not know yet what it reads
			return kerr.RebalanceInProgress.Code
		}
	}
	return code
}

// mostMetadata is how long a note of a member's may be.
const mostMetadata = 4096

// offsetCommit keeps how far a group is.
func (s *Server) offsetCommit(r *request, q *kmsg.OffsetCommitRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.OffsetCommitResponse)
	code := s.groups.mayCommit(q.Group, q.MemberID, q.InstanceID, q.Generation)
	if q.Group == "" || len(q.Group) > 190 {
		code = kerr.InvalidGroupID.Code
	}
	var keep []catalog.GroupOffset
	for _, t := range q.Topics {
		rt := kmsg.NewOffsetCommitResponseTopic()
		rt.Topic = t.Topic
		for _, p := range t.Partitions {
			rp := kmsg.NewOffsetCommitResponseTopicPartition()
			rp.Partition, rp.ErrorCode = p.Partition, code
			x := catalog.GroupOffset{Group: q.Group, Topic: t.Topic, Partition: int(p.Partition), Offset: p.Offset, UpdatedAt: time.Now()}
			if p.Metadata != nil {
				x.Metadata = *p.Metadata
			}
			switch {
			case code != 0:
			case !r.may(access.Read, t.Topic):
				rp.ErrorCode = kerr.TopicAuthorizationFailed.Code
			case s.partition(t.Topic, p.Partition) == nil:
				rp.ErrorCode = unknownTopic
			case len(x.Metadata) > mostMetadata:
				rp.ErrorCode = kerr.OffsetMetadataTooLarge.Code
			default:
				keep = append(keep, x)
			}
			rt.Partitions = append(rt.Partitions, rp)
		}
		resp.Topics = append(resp.Topics, rt)
	}
	if err := s.groups.store.PutOffsets(keep); err != nil {
		s.log.Warn("how far a group is cannot be kept", "group", q.Group, "error", err)
		for i := range resp.Topics {
			for k := range resp.Topics[i].Partitions {
				if p := &resp.Topics[i].Partitions[k]; p.ErrorCode == 0 {
					p.ErrorCode = kerr.CoordinatorNotAvailable.Code
				}
			}
		}
	}
	return resp
}

// offsetFetch tells how far a group is.
func (s *Server) offsetFetch(r *request, q *kmsg.OffsetFetchRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.OffsetFetchResponse)
	kept, err := s.groups.store.Offsets(q.Group)
	kept = slices.DeleteFunc(kept, func(x catalog.GroupOffset) bool { return !r.may(access.Read, x.Topic) })
	code := int16(0)
	if err != nil {
		code = kerr.CoordinatorNotAvailable.Code
		resp.ErrorCode = code
	}
	add := func(topic string, partition int32, x *catalog.GroupOffset) {
		i := slices.IndexFunc(resp.Topics, func(t kmsg.OffsetFetchResponseTopic) bool { return t.Topic == topic })
		if i < 0 {
			t := kmsg.NewOffsetFetchResponseTopic()
			t.Topic = topic
			resp.Topics = append(resp.Topics, t)
			i = len(resp.Topics) - 1
		}
		p := kmsg.NewOffsetFetchResponseTopicPartition()
		p.Partition, p.Offset, p.LeaderEpoch, p.ErrorCode = partition, -1, -1, code
		none := ""
		p.Metadata = &none
		if x != nil {
			p.Offset, p.Metadata = x.Offset, &x.Metadata
		}
		resp.Topics[i].Partitions = append(resp.Topics[i].Partitions, p)
	}
	if q.Topics == nil {
		for _, x := range kept {
			add(x.Topic, int32(x.Partition), &x)
		}
		return resp
	}
	for _, t := range q.Topics {
		for _, p := range t.Partitions {
			i := slices.IndexFunc(kept, func(x catalog.GroupOffset) bool { return x.Topic == t.Topic && x.Partition == int(p) })
			if i < 0 {
				add(t.Topic, p, nil)
			} else {
				add(t.Topic, p, &kept[i])
			}
		}
	}
	return resp
}
