package catalog

import "time"

// Records are what a service remembers. A Store keeps them in a database, and a Memory as long as it lives.
type Records interface {
	Definitions() ([]Definition, error)
	PutDefinition(kind, name, text string) error
	Redefine(kind, name, text, actor string, versions []Version) error
	DropDefinition(name string) error

	Jobs() ([]Job, error)
	CreateJob(j *Job, actor string) error
	ReplaceJob(name string, version int, sql, actor string) error
	SetJob(name string, fields map[string]any) error
	DropJob(name string) error
	Versions(job string) ([]Version, error)

	AddCheckpoint(c *Checkpoint, keep int) (removed []string, err error)
	Checkpoints(job string) ([]Checkpoint, error)
	DropCheckpoints(job string) (files []string, err error)

	AddSetAside(rows []SetAside, most int) error
	SetAsides(l Looking) ([]SetAside, error)
	SetAsideOf(id uint) (*SetAside, error)
	ForgetAsides(match func(x *SetAside) bool) (int, error)
	Sent(id uint, at time.Time, actor string) error
	AddReasons(counts []ReasonCount) error
	Reasons(job string) ([]ReasonCount, error)
	AddMinutes(points []Minute, before time.Time) error
	Minutes(job string, since time.Time) ([]Minute, error)

	PutSample(x *Sample) error
	Samples() ([]Sample, error)
	SampleOf(id uint) (*Sample, error)
	DropSample(id uint) (bool, error)

	PutOffsets(offsets []GroupOffset) error
	Offsets(group string) ([]GroupOffset, error)
	GroupNames() ([]string, error)
	DropOffsets(group, topic string) error

	PutSecret(name, address string, sealed []byte) error
	BindSecret(name, address string) (bound string, err error)
	SecretNamed(name string) ([]byte, error)
	Secrets() ([]Secret, error)
	DropSecret(name string) (bool, error)

	Kept(kind string) ([]Kept, error)
	Keep(kind, id, data string) error
	Unkeep(kind, id string) error

	Note(actor, action, object, detail string) error
	Activity(before uint, object string, limit int) ([]Activity, error)
}
