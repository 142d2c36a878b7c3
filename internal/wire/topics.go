package wire

import (
	"errors"
	"net"
	"strconv"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/service/access"
	"fiume/internal/service/base"
	"fiume/internal/topiclog"

	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kmsg"
)

// here is where a client reaches us: where it does now.
func here(r *request) (host string, port int32) {
	h, p, err := net.SplitHostPort(r.conn.LocalAddr().String())
	if err != nil {
		return "", 0
	}
	n, _ := strconv.Atoi(p) // it is one
	return h, int32(n)
}

// metadata tells the topics with their partitions, all led by us.
func (s *Server) metadata(r *request, q *kmsg.MetadataRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.MetadataResponse)
	b := kmsg.NewMetadataResponseBroker()
	b.NodeID = node
	b.Host, b.Port = here(r)
	resp.Brokers = append(resp.Brokers, b)
	cluster := "fiume"
	resp.ClusterID, resp.ControllerID = &cluster, node
	told := func(name string) {
		t := s.topic(name)
		rt := kmsg.NewMetadataResponseTopic()
		rt.Topic = &name
		if !r.may(access.Look, name) {
			rt.ErrorCode = kerr.TopicAuthorizationFailed.Code
			resp.Topics = append(resp.Topics, rt)
			return
		}
		if t == nil {
			rt.ErrorCode = unknownTopic
			resp.Topics = append(resp.Topics, rt)
			return
		}
		for i, part := range t.Partitions() {
			p := kmsg.NewMetadataResponseTopicPartition()
			p.Partition, p.Leader, p.LeaderEpoch, p.Replicas, p.ISR = int32(i), node, 0, []int32{node}, []int32{node}
			if part.Err() != nil {
				p.ErrorCode, p.Leader, p.ISR = kerr.LeaderNotAvailable.Code, -1, nil
			}
			rt.Partitions = append(rt.Partitions, p)
		}
		resp.Topics = append(resp.Topics, rt)
	}
	if q.Topics == nil || q.Version == 0 && len(q.Topics) == 0 {
		for _, t := range s.service.Topics.TopicLog.Topics() {
			if !r.may(access.Look, t.Name) {
				continue
			}
			told(t.Name)
		}
		return resp
	}
	for _, t := range q.Topics {
		if t.Topic != nil {
			told(*t.Topic)
		}
	}
	return resp
}

func (s *Server) findCoordinator(r *request, q *kmsg.FindCoordinatorRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.FindCoordinatorResponse)
	if q.CoordinatorType != 0 {
		text := "transactions are not taken"
		resp.ErrorCode, resp.ErrorMessage, resp.NodeID = kerr.TransactionalIDAuthorizationFailed.Code, &text, -1
		return resp
	}
	if !r.mayGroup(q.CoordinatorKey) {
		resp.ErrorCode, resp.ErrorMessage, resp.NodeID = kerr.GroupAuthorizationFailed.Code, refusedGroup(q.CoordinatorKey), -1
		return resp
	}
	resp.NodeID = node
	resp.Host, resp.Port = here(r)
	return resp
}

// actor is who does something, for the activity.
func actor(r *request) string {
	if c := r.caller(); c != nil {
		return catalog.Actor(c.Name, c.Via, c.Address)
	}
	if r.client != "" {
		return "client " + base.ClipText(r.client, 60)
	}
	return "a client"
}

// mayDecide says whether a client may make, change and delete a topic.
func (r *request) mayDecide(topic string) bool {
	return r.caller().In(access.Develop, access.SpaceOf(topic))
}

// why gives the code and the words for a refusal.
func why(err error) (int16, *string) {
	if err == nil {
		return 0, nil
	}
	text := err.Error()
	switch {
	case errors.Is(err, base.ErrConflict):
		return kerr.TopicAlreadyExists.Code, &text
	case errors.Is(err, base.ErrNotFound):
		return unknownTopic, &text
	case errors.Is(err, base.ErrRefused):
		return kerr.InvalidTopicException.Code, &text
	}
	return kerr.UnknownServerError.Code, &text
}

func (s *Server) createTopics(r *request, q *kmsg.CreateTopicsRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.CreateTopicsResponse)
	for _, t := range q.Topics {
		rt := kmsg.NewCreateTopicsResponseTopic()
		rt.Topic, rt.ReplicationFactor = t.Topic, 1
		rt.Configs = []kmsg.CreateTopicsResponseTopicConfig{} // some clients take none for a mistake
		refuse := func(code int16, text string) { rt.ErrorCode, rt.ErrorMessage = code, &text }
		n := int(t.NumPartitions)
		if len(t.ReplicaAssignment) > 0 {
			n = len(t.ReplicaAssignment)
		} else if n == -1 {
			n = 1
		}
		set := topiclog.Settings{Partitions: n}
		rt.NumPartitions = int32(n)
		switch {
		case n < 1 || n > 1000:
			refuse(kerr.InvalidPartitions.Code, "a topic has 1 to 1000 partitions")
		case t.ReplicationFactor > 1 && len(t.ReplicaAssignment) == 0:
			refuse(kerr.InvalidReplicationFactor.Code, "there is one broker: a replication factor of 1 is taken")
		default:
			for _, c := range t.Configs {
				if err := configure(&set, c.Name, c.Value); err != nil {
					refuse(kerr.InvalidConfig.Code, err.Error())
				}
			}
		}
		if !r.mayDecide(t.Topic) {
			refuse(kerr.TopicAuthorizationFailed.Code, r.caller().Missing(access.Develop, access.SpaceOf(t.Topic)))
		}
		if rt.ErrorCode == 0 && s.topic(t.Topic) != nil {
			refuse(kerr.TopicAlreadyExists.Code, "there is already a topic of this name")
		}
		if rt.ErrorCode == 0 && !q.ValidateOnly {
			rt.ErrorCode, rt.ErrorMessage = why(s.service.Topics.Create(actor(r), t.Topic, set))
		}
		resp.Topics = append(resp.Topics, rt)
	}
	return resp
}

// configure takes the settings of a topic that mean something here.
func configure(set *topiclog.Settings, name string, value *string) error {
	if value == nil {
		return nil
	}
	number := func() (int64, error) {
		n, err := strconv.ParseInt(*value, 10, 64)
		if err != nil {
			return 0, errors.New(name + " takes a whole number")
		}
		return max(n, 0), nil // -1: no limit
	}
	switch name {
	case "retention.ms":
		n, err := number()
		set.RetainFor = min(n, 1<<62/1000) * int64(time.Millisecond/time.Microsecond)
		return err
	case "retention.bytes":
		n, err := number()
		set.RetainBytes = n
		return err
	case "cleanup.policy":
		switch *value {
		case "delete":
		case "compact", "compact,delete", "delete,compact":
			set.Compact = true
		default:
			return errors.New("cleanup.policy takes delete, compact or both")
		}
	}
	return nil
}

func (s *Server) deleteTopics(r *request, q *kmsg.DeleteTopicsRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.DeleteTopicsResponse)
	for _, name := range q.TopicNames {
		rt := kmsg.NewDeleteTopicsResponseTopic()
		rt.Topic = &name
		if !r.mayDecide(name) {
			rt.ErrorCode = kerr.TopicAuthorizationFailed.Code
			resp.Topics = append(resp.Topics, rt)
			continue
		}
		err := s.service.Definitions.DropTopic(actor(r), name)
		if rt.ErrorCode, rt.ErrorMessage = why(err); errors.Is(err, base.ErrConflict) { // it is used
			rt.ErrorCode = kerr.PolicyViolation.Code
		}
		resp.Topics = append(resp.Topics, rt)
	}
	return resp
}

func (s *Server) createPartitions(r *request, q *kmsg.CreatePartitionsRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.CreatePartitionsResponse)
	for _, t := range q.Topics {
		rt := kmsg.NewCreatePartitionsResponseTopic()
		rt.Topic = t.Topic
		topic := s.topic(t.Topic)
		refuse := func(text string) { rt.ErrorCode, rt.ErrorMessage = kerr.InvalidPartitions.Code, &text }
		switch {
		case !r.mayDecide(t.Topic):
			rt.ErrorCode = kerr.TopicAuthorizationFailed.Code
		case topic == nil:
			rt.ErrorCode = unknownTopic
		case int(t.Count) <= len(topic.Partitions()):
			refuse("the topic has " + strconv.Itoa(len(topic.Partitions())) + " partitions already")
		case t.Count > 1000:
			refuse("a topic has 1 to 1000 partitions")
		case !q.ValidateOnly:
			_, err := s.service.Topics.Grow(actor(r), t.Topic, int(t.Count))
			rt.ErrorCode, rt.ErrorMessage = why(err)
		}
		resp.Topics = append(resp.Topics, rt)
	}
	return resp
}

// describeConfigs tells the settings of topics that mean something here.
func (s *Server) describeConfigs(by *request, q *kmsg.DescribeConfigsRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.DescribeConfigsResponse)
	for _, r := range q.Resources {
		rr := kmsg.NewDescribeConfigsResponseResource()
		rr.ResourceType, rr.ResourceName = r.ResourceType, r.ResourceName
		if r.ResourceType == kmsg.ConfigResourceTypeTopic {
			t := s.topic(r.ResourceName)
			if !by.may(access.Look, r.ResourceName) {
				rr.ErrorCode = kerr.TopicAuthorizationFailed.Code
			} else if t == nil {
				rr.ErrorCode = unknownTopic
			} else {
				told := func(name string, n int64) {
					text := "-1"
					if n > 0 {
						text = strconv.FormatInt(n, 10)
					}
					c := kmsg.NewDescribeConfigsResponseResourceConfig()
					c.Name, c.Value, c.Source, c.ReadOnly = name, &text, kmsg.ConfigSourceDynamicTopicConfig, true
					rr.Configs = append(rr.Configs, c)
				}
				told("retention.ms", t.Settings.RetainFor/1000)
				told("retention.bytes", t.Settings.RetainBytes)
				policy := "delete"
				if t.Settings.Compact {
					policy = "compact"
				}
				c := kmsg.NewDescribeConfigsResponseResourceConfig()
				c.Name, c.Value, c.Source, c.ReadOnly = "cleanup.policy", &policy, kmsg.ConfigSourceDynamicTopicConfig, true
				rr.Configs = append(rr.Configs, c)
			}
		}
		resp.Resources = append(resp.Resources, rr)
	}
	return resp
}
