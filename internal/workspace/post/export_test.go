package post

// ReadLongAgo has a job that was handed on go by people who were read so long ago that they are to be read again.
func ReadLongAgo(j *Job) { j.readAt = j.readAt.Add(-2 * staleAfter) }
