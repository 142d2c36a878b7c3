package wire

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"maps"
	"net"
	"slices"
	"sync"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/service/access"

	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kmsg"
)

// A group of readers shares the partitions of topics. Its members join; one of them, the leader, says who reads what; all are told, and beat to say that they are
// there. Whenever a member comes, goes or falls silent the members join anew, in a new generation. This is the classic protocol of groups: who reads what
// is the members' own matter. How far a group has read is kept in the catalog; its members are not, and join again after a restart.

// Bounds of what members ask for.
const (
	leastSession = 10 * time.Millisecond
	mostSession  = 30 * time.Minute
	mostMembers  = 1000
	mostGroups   = 10_000
	// mayFollow is how long the first member of a group waits for others.
	mayFollow = 150 * time.Millisecond
	// watchEvery is how often it is looked for members that are silent.
	watchEvery = 50 * time.Millisecond
)

// offsets is what the catalog keeps of groups.
type offsets interface {
	PutOffsets(offsets []catalog.GroupOffset) error
	Offsets(group string) ([]catalog.GroupOffset, error)
	GroupNames() ([]string, error)
	DropOffsets(group, topic string) error
}

// groups are those that have members, or had some.
type groups struct {
	store offsets
	mu    sync.Mutex
	by    map[string]*group
}

func newGroups(store offsets) *groups { return &groups{store: store, by: map[string]*group{}} }

// The states of a group, as the protocol calls them.
const (
	stateEmpty      = "Empty"
	statePreparing  = "PreparingRebalance"
	stateCompleting = "CompletingRebalance"
	stateStable     = "Stable"
)

// group is one group. Everything in it is under the lock of groups.
type group struct {
	name       string
	state      string
	generation int32
	kind       string // what its members are, such as consumer
	protocol   string // how the leader shares out
	leader     string
	members    map[string]*member
	expected   map[string]time.Time // names that were given to members which are to come back with them, and until when
	ends       time.Time            // of joining: who has not joined by then is out
	opens      time.Time            // before it nobody is answered: others may come
}

type member struct {
	id, client, host string
	instance         *string
	session          time.Duration
	rebalance        time.Duration
	protocols        []kmsg.JoinGroupRequestProtocol
	assignment       []byte
	seen             time.Time
	joining          chan *kmsg.JoinGroupResponse // it waits for the others
	syncing          chan *kmsg.SyncGroupResponse // it waits for the leader
}

// watch looks for members that are silent, and ends joining that has taken long enough.
func (g *groups) watch(ctx context.Context) {
	t := time.NewTicker(watchEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-t.C:
			g.mu.Lock()
			for name, x := range g.by {
				x.tick(now)
				if len(x.members) == 0 && len(x.expected) == 0 {
					delete(g.by, name) // what is kept of it is in the catalog
				}
			}
			g.mu.Unlock()
		}
	}
}

func (x *group) tick(now time.Time) {
	for id, until := range x.expected {
		if now.After(until) {
			delete(x.expected, id)
		}
	}
	for _, m := range x.members {
		if m.joining == nil && m.syncing == nil && now.Sub(m.seen) > m.session {
			x.remove(m)
		}
	}
	switch x.state {
	case statePreparing:
		x.advance(now)
	case stateCompleting: // a leader that says nothing
		if now.After(x.ends) {
			for _, m := range x.members {
				if m.syncing == nil {
					x.remove(m)
				}
			}
		}
	}
}

// remove takes a member out; the others join anew.
func (x *group) remove(m *member) {
	delete(x.members, m.id)
	if m.joining != nil {
		m.answerJoin(kerr.UnknownMemberID.Code)
	}
	if m.syncing != nil {
		m.answerSync(kerr.UnknownMemberID.Code, nil)
	}
	if len(x.members) == 0 {
		x.state, x.leader, x.protocol = stateEmpty, "", ""
		x.generation++
		return
	}
	if x.state == statePreparing {
		x.advance(time.Now())
		return
	}
	x.prepare()
}

// prepare has the members join anew.
func (x *group) prepare() {
	now := time.Now()
	if x.state == stateCompleting { // the leader's word would be of another generation
		for _, m := range x.members {
			if m.syncing != nil {
				m.answerSync(kerr.RebalanceInProgress.Code, nil)
			}
		}
	}
	x.opens = now
	if x.state == stateEmpty {
		x.opens = now.Add(mayFollow)
	}
	x.state = statePreparing
	longest := time.Duration(0)
	for _, m := range x.members {
		longest = max(longest, m.rebalance)
	}
	x.ends = now.Add(longest)
}

// advance begins the next generation, once all have joined or it takes too long.
func (x *group) advance(now time.Time) {
	if x.state != statePreparing || now.Before(x.opens) {
		return
	}
	for _, m := range x.members {
		if m.joining == nil && now.Before(x.ends) {
			return
		}
	}
	for id, m := range x.members {
		if m.joining == nil {
			delete(x.members, id)
		}
	}
	x.generation++
	if len(x.members) == 0 {
		x.state, x.leader, x.protocol = stateEmpty, "", ""
		return
	}
	x.state = stateCompleting
	x.protocol = x.vote()
	if x.members[x.leader] == nil {
		x.leader = slices.Min(slices.Collect(maps.Keys(x.members)))
	}
	longest := time.Duration(0)
	for _, m := range x.members {
		longest = max(longest, m.rebalance)
		m.seen = now
		m.assignment = nil
		m.answerJoinAs(x)
	}
	x.ends = now.Add(longest)
}

// vote chooses what all members can do and most like best.
func (x *group) vote() string {
	votes := map[string]int{}
	for _, m := range x.members {
		for _, p := range m.protocols {
			if x.all(p.Name) {
				votes[p.Name]++
				break
			}
		}
	}
	names := slices.SortedFunc(maps.Keys(votes), func(a, b string) int { return cmp.Or(cmp.Compare(votes[b], votes[a]), cmp.Compare(a, b)) })
	if len(names) == 0 {
		return ""
	}
	return names[0]
}

// all says whether all members can share out in a way.
func (x *group) all(protocol string) bool {
	for _, m := range x.members {
		if !m.knows(protocol) {
			return false
		}
	}
	return true
}

func (m *member) knows(protocol string) bool {
	return slices.ContainsFunc(m.protocols, func(p kmsg.JoinGroupRequestProtocol) bool { return p.Name == protocol })
}

func (m *member) answerJoin(code int16) {
	m.joining <- &kmsg.JoinGroupResponse{ErrorCode: code, Generation: -1, MemberID: m.id}
	m.joining = nil
}

// answerJoinAs tells a member of the generation; the leader of all members, too.
func (m *member) answerJoinAs(x *group) {
	r := x.joined(m)
	m.joining <- r
	m.joining = nil
}

func (x *group) joined(m *member) *kmsg.JoinGroupResponse {
	r := kmsg.NewPtrJoinGroupResponse()
	protocol := x.protocol
	r.Generation, r.Protocol, r.LeaderID, r.MemberID = x.generation, &protocol, x.leader, m.id
	if m.id == x.leader {
		for _, id := range slices.Sorted(maps.Keys(x.members)) {
			o := x.members[id]
			rm := kmsg.NewJoinGroupResponseMember()
			rm.MemberID, rm.InstanceID = o.id, o.instance
			for _, p := range o.protocols {
				if p.Name == x.protocol {
					rm.ProtocolMetadata = p.Metadata
				}
			}
			r.Members = append(r.Members, rm)
		}
	}
	return r
}

func (m *member) answerSync(code int16, assignment []byte) {
	m.syncing <- synced(code, assignment)
	m.syncing = nil
}

func synced(code int16, assignment []byte) *kmsg.SyncGroupResponse {
	r := kmsg.NewPtrSyncGroupResponse()
	r.ErrorCode, r.MemberAssignment = code, assignment
	if r.MemberAssignment == nil {
		r.MemberAssignment = []byte{}
	}
	return r
}

// join takes a member in, and answers when the generation begins.
func (g *groups) join(r *request, q *kmsg.JoinGroupRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.JoinGroupResponse)
	resp.Generation, resp.MemberID = -1, q.MemberID
	if !r.mayGroup(q.Group) {
		resp.ErrorCode = kerr.GroupAuthorizationFailed.Code
		return resp
	}
	wait, code := g.begin(r, q, resp)
	if wait == nil {
		resp.ErrorCode = code
		return resp
	}
	select {
	case got := <-wait:
		got.SetVersion(q.Version)
		return got
	case <-r.ctx.Done():
		g.mu.Lock()
		defer g.mu.Unlock()
		if x := g.by[q.Group]; x != nil { // it does not wait any more, and may come back
			for _, m := range x.members {
				if m.joining == wait {
					m.joining, m.seen = nil, time.Now()
				}
			}
		}
		resp.ErrorCode = kerr.CoordinatorNotAvailable.Code
		return resp
	}
}

// begin notes that a member joins; what it waits for is nil where resp or the code is the answer.
func (g *groups) begin(r *request, q *kmsg.JoinGroupRequest, resp *kmsg.JoinGroupResponse) (wait chan *kmsg.JoinGroupResponse, code int16) {
	session := time.Duration(q.SessionTimeoutMillis) * time.Millisecond
	rebalance := time.Duration(q.RebalanceTimeoutMillis) * time.Millisecond
	if rebalance <= 0 {
		rebalance = session
	}
	switch {
	case q.Group == "" || len(q.Group) > 190:
		return nil, kerr.InvalidGroupID.Code
	case session < leastSession || session > mostSession:
		return nil, kerr.InvalidSessionTimeout.Code
	case len(q.Protocols) == 0 || q.ProtocolType == "":
		return nil, kerr.InconsistentGroupProtocol.Code
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	x := g.by[q.Group]
	if x == nil {
		if q.MemberID != "" {
			return nil, kerr.UnknownMemberID.Code
		}
		if len(g.by) >= mostGroups {
			return nil, kerr.GroupMaxSizeReached.Code
		}
		x = &group{name: q.Group, state: stateEmpty, members: map[string]*member{}, expected: map[string]time.Time{}}
		g.by[q.Group] = x
	}
	m := x.members[q.MemberID]
	_, expected := x.expected[q.MemberID]
	if m == nil && q.InstanceID != nil { // one that goes by a name of its own takes the place of the one before
		for _, o := range x.members {
			if o.instance != nil && *o.instance == *q.InstanceID {
				if q.MemberID != "" && q.MemberID != o.id {
					return nil, kerr.FencedInstanceID.Code
				}
				x.remove(o)
				break
			}
		}
	}
	switch {
	case m == nil && q.MemberID != "" && !expected:
		return nil, kerr.UnknownMemberID.Code
	case len(x.members) > 0 && x.kind != q.ProtocolType:
		return nil, kerr.InconsistentGroupProtocol.Code
	case m == nil && len(x.members) > 0 && !slices.ContainsFunc(q.Protocols, func(p kmsg.JoinGroupRequestProtocol) bool { return x.all(p.Name) }):
		return nil, kerr.InconsistentGroupProtocol.Code
	case m == nil && len(x.members)+len(x.expected) >= mostMembers && !expected:
		return nil, kerr.GroupMaxSizeReached.Code
	}
	if m == nil {
		id := q.MemberID
		if id == "" {
			id = cmp.Or(r.client, "member") + "-" + rand.Text()
			if q.Version >= 4 && q.InstanceID == nil {
				x.expected[id] = time.Now().Add(session)
				resp.MemberID = id
				return nil, kerr.MemberIDRequired.Code
			}
		}
		delete(x.expected, id)
		host, _, _ := net.SplitHostPort(r.conn.RemoteAddr().String()) // it is for people
		m = &member{id: id, client: r.client, host: host, instance: q.InstanceID}
		x.members[id] = m
		x.kind = q.ProtocolType
		defer x.unlessPreparing()
	} else if x.state == stateStable && m.id != x.leader && slices.EqualFunc(m.protocols, q.Protocols, same) { // it has not heard that it is in
		m.seen = time.Now()
		got := x.joined(m)
		got.SetVersion(q.Version)
		wait = make(chan *kmsg.JoinGroupResponse, 1)
		wait <- got
		return wait, 0
	} else {
		defer x.unlessPreparing()
	}
	if m.joining != nil { // it asks again
		m.answerJoin(kerr.RebalanceInProgress.Code)
	}
	m.session, m.rebalance, m.protocols, m.seen = session, rebalance, q.Protocols, time.Now()
	m.joining = make(chan *kmsg.JoinGroupResponse, 1)
	return m.joining, 0
}

func same(a, b kmsg.JoinGroupRequestProtocol) bool {
	return a.Name == b.Name && bytes.Equal(a.Metadata, b.Metadata)
}

// unlessPreparing has the members join anew, unless they do, and goes on where all have.
func (x *group) unlessPreparing() {
	if x.state != statePreparing {
		x.prepare()
	}
	x.advance(time.Now())
}

// member finds a member that speaks of a generation.
func (g *groups) member(group, id string, instance *string, generation int32) (*group, *member, int16) {
	x := g.by[group]
	if x == nil {
		return nil, nil, kerr.UnknownMemberID.Code
	}
	m := x.members[id]
	if m == nil {
		if instance != nil {
			for _, o := range x.members {
				if o.instance != nil && *o.instance == *instance {
					return nil, nil, kerr.FencedInstanceID.Code
				}
			}
		}
		return nil, nil, kerr.UnknownMemberID.Code
	}
	if generation != x.generation {
		return x, m, kerr.IllegalGeneration.Code
	}
	return x, m, 0
}

// sync tells a member what it reads, once the leader has said so.
func (g *groups) sync(r *request, q *kmsg.SyncGroupRequest) kmsg.Response {
	wait, got := g.beginSync(q)
	if wait != nil {
		select {
		case got = <-wait:
		case <-r.ctx.Done():
			g.mu.Lock()
			if x := g.by[q.Group]; x != nil {
				if m := x.members[q.MemberID]; m != nil && m.syncing == wait {
					m.syncing, m.seen = nil, time.Now()
				}
			}
			g.mu.Unlock()
			got = synced(kerr.CoordinatorNotAvailable.Code, nil)
		}
	}
	got.SetVersion(q.Version)
	return got
}

func (g *groups) beginSync(q *kmsg.SyncGroupRequest) (wait chan *kmsg.SyncGroupResponse, got *kmsg.SyncGroupResponse) {
	g.mu.Lock()
	defer g.mu.Unlock()
	x, m, code := g.member(q.Group, q.MemberID, q.InstanceID, q.Generation)
	if code != 0 {
		return nil, synced(code, nil)
	}
	m.seen = time.Now()
	switch x.state {
	case statePreparing:
		return nil, synced(kerr.RebalanceInProgress.Code, nil)
	case stateStable:
		return nil, synced(0, m.assignment)
	}
	if m.id != x.leader {
		if m.syncing != nil {
			m.answerSync(kerr.RebalanceInProgress.Code, nil)
		}
		m.syncing = make(chan *kmsg.SyncGroupResponse, 1)
		return m.syncing, nil
	}
	for _, a := range q.GroupAssignment {
		if o := x.members[a.MemberID]; o != nil {
			o.assignment = a.MemberAssignment
		}
	}
	x.state = stateStable
	for _, o := range x.members {
		o.seen = time.Now()
		if o.syncing != nil {
			o.answerSync(0, o.assignment)
		}
	}
	return nil, synced(0, m.assignment)
}

func (g *groups) heartbeat(q *kmsg.HeartbeatRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.HeartbeatResponse)
	g.mu.Lock()
	defer g.mu.Unlock()
	x, m, code := g.member(q.Group, q.MemberID, q.InstanceID, q.Generation)
	if m != nil {
		m.seen = time.Now()
	}
	if code == 0 && x.state == statePreparing {
		code = kerr.RebalanceInProgress.Code
	}
	resp.ErrorCode = code
	return resp
}

func (g *groups) leave(q *kmsg.LeaveGroupRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.LeaveGroupResponse)
	g.mu.Lock()
	defer g.mu.Unlock()
	out := func(id string, instance *string) int16 {
		x := g.by[q.Group]
		if x == nil {
			return kerr.UnknownMemberID.Code
		}
		m := x.members[id]
		for _, o := range x.members {
			if instance != nil && o.instance != nil && *o.instance == *instance {
				if id != "" && id != o.id {
					return kerr.FencedInstanceID.Code
				}
				m = o
			}
		}
		if m == nil {
			return kerr.UnknownMemberID.Code
		}
		x.remove(m)
		return 0
	}
	if q.Version < 3 {
		resp.ErrorCode = out(q.MemberID, nil)
		return resp
	}
	for _, m := range q.Members {
		rm := kmsg.NewLeaveGroupResponseMember()
		rm.MemberID, rm.InstanceID = m.MemberID, m.InstanceID
		rm.ErrorCode = out(m.MemberID, m.InstanceID)
		resp.Members = append(resp.Members, rm)
	}
	return resp
}

func (g *groups) describe(r *request, q *kmsg.DescribeGroupsRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.DescribeGroupsResponse)
	known, err := g.store.GroupNames()
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, name := range q.Groups {
		rg := kmsg.NewDescribeGroupsResponseGroup()
		rg.Group, rg.State = name, "Dead"
		if !r.mayGroup(name) {
			rg.ErrorCode = kerr.GroupAuthorizationFailed.Code
			resp.Groups = append(resp.Groups, rg)
			continue
		}
		if err != nil {
			rg.ErrorCode = kerr.CoordinatorNotAvailable.Code
		}
		if slices.Contains(known, name) {
			rg.State, rg.ProtocolType = stateEmpty, "consumer"
		}
		if x := g.by[name]; x != nil {
			rg.State, rg.ProtocolType, rg.Protocol = x.state, x.kind, x.protocol
			for _, id := range slices.Sorted(maps.Keys(x.members)) {
				m := x.members[id]
				rm := kmsg.NewDescribeGroupsResponseGroupMember()
				rm.MemberID, rm.InstanceID, rm.ClientID, rm.ClientHost, rm.MemberAssignment = m.id, m.instance, m.client, "/"+m.host, m.assignment
				for _, p := range m.protocols {
					if p.Name == x.protocol {
						rm.ProtocolMetadata = p.Metadata
					}
				}
				rg.Members = append(rg.Members, rm)
			}
		}
		resp.Groups = append(resp.Groups, rg)
	}
	return resp
}

func (g *groups) list(r *request, q *kmsg.ListGroupsRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.ListGroupsResponse)
	known, err := g.store.GroupNames()
	if err != nil {
		resp.ErrorCode = kerr.CoordinatorNotAvailable.Code
		return resp
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	for name := range g.by {
		if !slices.Contains(known, name) {
			known = append(known, name)
		}
	}
	slices.Sort(known)
	for _, name := range known {
		if !r.mayGroup(name) {
			continue
		}
		rg := kmsg.NewListGroupsResponseGroup()
		rg.Group, rg.ProtocolType, rg.GroupState = name, "consumer", stateEmpty
		if x := g.by[name]; x != nil {
			rg.ProtocolType, rg.GroupState = x.kind, x.state
		}
		resp.Groups = append(resp.Groups, rg)
	}
	return resp
}

func (g *groups) drop(r *request, q *kmsg.DeleteGroupsRequest) kmsg.Response {
	resp := q.ResponseKind().(*kmsg.DeleteGroupsResponse)
	for _, name := range q.Groups {
		rg := kmsg.NewDeleteGroupsResponseGroup()
		rg.Group = name
		g.mu.Lock()
		x := g.by[name]
		used := x != nil && len(x.members) > 0
		g.mu.Unlock()
		known, err := g.store.GroupNames()
		switch {
		case !r.caller().In(access.Develop, access.SpaceOf(name)):
			rg.ErrorCode = kerr.GroupAuthorizationFailed.Code
		case used:
			rg.ErrorCode = kerr.NonEmptyGroup.Code
		case err == nil && !slices.Contains(known, name):
			rg.ErrorCode = kerr.GroupIDNotFound.Code
		default:
			if err == nil {
				err = g.store.DropOffsets(name, "")
			}
			if err != nil {
				rg.ErrorCode = kerr.CoordinatorNotAvailable.Code
			}
		}
		resp.Groups = append(resp.Groups, rg)
	}
	return resp
}
