package windows

import (
	"errors"
	"io/fs"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/taskcache"
	"lockback/core/format/taskxml"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
	"lockback/core/machine/registry"
)

// taskCache is what the scheduler keeps of its tasks in the registry: a tree of
// their names, and what it made of each definition, by an id. A definition whose
// hash is not the one there does not run.
const taskCache = registry.KeyTaskCache

// maxTaskDepth is how deep folders of tasks are followed.
const maxTaskDepth = 16

// readTasks reads the definitions in files, and the tasks that only the scheduler's cache has: those run
// all the same.
func readTasks(s *location.Survey) {
	root := s.Machine.Canonical(s.Machine.Windows() + `\System32\Tasks`)
	tree := key(s, taskCache+`\Tree`)
	t := tasks{root: root, tree: tree, seen: map[string]bool{}}
	if s.Dir(root) != nil {
		t.readFolder(s, root, 0)
	}
	if tree != nil {
		t.readTree(s, tree, "", 0)
	}
}

// tasks is one reading of all tasks.
type tasks struct {
	root string          // the folder of definitions
	tree *registry.Key   // the names in the cache; nil if there is none
	seen map[string]bool // paths in small letters
}

func (t tasks) readFolder(s *location.Survey, dir string, depth int) {
	entries, err := s.ReadDir(dir)
	if err != nil {
		s.Skip(dir, err)
		return
	}
	for _, e := range entries {
		file := dir + `\` + e.Name()
		switch {
		case e.IsDir() && depth < maxTaskDepth:
			t.readFolder(s, file, depth+1)
		case e.Type().IsRegular() && !strings.HasPrefix(e.Name(), files.TempPrefix):
			path := strings.TrimPrefix(file, t.root)
			t.seen[strings.ToLower(path)] = true
			t.addFile(s, file, path)
		}
	}
}

// readTree reports the tasks of the cache whose definition is not there.
func (t tasks) readTree(s *location.Survey, k *registry.Key, path string, depth int) {
	if id := k.Text("Id"); id != "" && path != "" && !t.seen[strings.ToLower(path)] {
		t.addCached(s, k, id, path)
	}
	if depth > maxTaskDepth {
		return
	}
	for _, below := range subkeys(s, k) {
		t.readTree(s, below, path+`\`+below.Name(), depth+1)
	}
}

// taskName is what people call a task: makers give theirs a folder of their own, and names like Update. Windows'
// own are known by the last part.
func taskName(path string) string {
	if len(path) > len(ownTasks) && strings.EqualFold(path[:len(ownTasks)], ownTasks) {
		return path[strings.LastIndexByte(path, '\\')+1:]
	}
	return strings.TrimPrefix(path, `\`)
}

// ownTasks is the folder that Microsoft's tasks lie in.
const ownTasks = `\Microsoft\`

// addCached reports a task that the scheduler runs by what its cache has of it.
func (t tasks) addCached(s *location.Survey, tree *registry.Key, id, path string) {
	item := newItem(origin{path: t.root + path}, taskName(path), "")
	item.SystemName, item.Stage = path, autostart.Schedule
	item.Problems, item.Mode = []string{autostart.Obscured}, "its file is gone, the scheduler still has it"
	item.Artifacts = func() []artifact.Artifact { return cachedArtifacts(s.Machine, tree, id) }
	if s.Machine.Live {
		item.Switcher = location.NoSwitch{Why: "there is no definition of it to switch; the scheduler's own program " +
			"can delete it"}
	} else {
		item.Switcher = restingTask{location.NoSwitch{Why: "there is no definition of it to switch; take it away " +
			removable}, item.Artifacts}
	}
	kept, err := s.Machine.Key(taskCache + `\Tasks\` + id)
	if err != nil {
		// A name without a task behind it starts nothing.
		item.State, item.Problems = autostart.Disabled, []string{autostart.Ignored}
		item.Mode = "the scheduler's cache has its name only"
		s.Add(strings.ToLower(path), item)
		return
	}
	v, _ := kept.Value("Actions")
	actions, _ := taskcache.Actions(v.Data)
	task := &taskxml.Task{Enabled: true, Author: kept.Text("Author"), Description: kept.Text("Description"),
		Date: kept.Text("Date")}
	for _, a := range actions {
		switch {
		case a.ClassID != "":
			task.Handlers = append(task.Handlers, taskxml.Handler{ClassID: a.ClassID, Data: a.Data})
		case a.Other != "":
			task.Others = append(task.Others, a.Other)
		default:
			task.Execs = append(task.Execs, taskxml.Exec{Command: a.Command, Arguments: a.Arguments,
				WorkingDirectory: a.Directory})
		}
	}
	describeTask(s, item, task, path)
	item.When = "by the scheduler's cache"
	item.Foreign = true // the system's own tasks have files
	s.Add(strings.ToLower(path), item)
}

// stageOf tells when a trigger starts its task.
var stageOf = map[string]autostart.Stage{
	"BootTrigger": autostart.System, "LogonTrigger": autostart.SignIn, "TimeTrigger": autostart.Schedule,
	"CalendarTrigger": autostart.Schedule,
	"EventTrigger":    autostart.Event, "IdleTrigger": autostart.Event, "RegistrationTrigger": autostart.Event,
	"SessionStateChangeTrigger": autostart.Event,
	"WnfStateChangeTrigger":     autostart.Event,
}

// words for triggers without a schedule.
var triggerWords = map[string]string{
	"BootTrigger": "at startup", "LogonTrigger": "at sign-in", "TimeTrigger": "at a time",
	"EventTrigger": "on an event", "IdleTrigger": "when idle",
	"RegistrationTrigger": "when it is registered", "SessionStateChangeTrigger": "when a session changes",
	"WnfStateChangeTrigger": "on a change of state",
}

func (t tasks) addFile(s *location.Survey, file, path string) {
	item := newItem(origin{path: file}, taskName(path), "")
	item.Switcher = taskSwitch{file}
	if !s.Machine.Live {
		item.Switcher = restingTask{location.NoSwitch{Why: "the scheduler keeps a hash over each task that is not " +
			"documented; turn it off on the running machine, restore a snapshot that has it off, or take it away " +
			removable},
			func() []artifact.Artifact { return taskArtifacts(s.Machine, file, path) }}
	}
	item.Artifacts = func() []artifact.Artifact { return taskArtifacts(s.Machine, file, path) }
	item.Facts = func() []location.Fact { return []location.Fact{{Name: "task", Value: path, Basis: file}} }
	b, err := s.ReadFile(file, files.MaxFileSize)
	if err != nil {
		s.Skip(file, err)
		return
	}
	task, err := taskxml.Parse(b)
	if err != nil {
		item.Problems, item.Mode = []string{autostart.Unparsable}, "damaged: it does not run"
		item.State = autostart.Disabled
		item.Switcher = location.NoSwitch{Why: "its definition cannot be read"}
		item.Command = oneLine(string(b))
		s.Add(strings.ToLower(path), item)
		return
	}
	describeTask(s, item, task, path)
	if t.tree != nil && item.State == autostart.Enabled {
		if _, err := s.Machine.Key(t.tree.Path + path); errors.Is(err, fs.ErrNotExist) {
			item.State, item.Mode = autostart.Disabled, "not registered: the scheduler's cache lacks it"
			item.Problems = append(item.Problems, autostart.Ignored)
			item.Switcher = location.NoSwitch{Why: "it does not run; the scheduler would have to register it"}
		}
	}
	s.Add(strings.ToLower(path), item)
}

// oneLine is the beginning of a text, for a person to recognise it by.
func oneLine(t string) string {
	t = strings.Join(strings.Fields(strings.ToValidUTF8(strings.ReplaceAll(t, "\x00", ""), "")), " ")
	if len(t) > 200 {
		t = t[:200]
	}
	return strings.ToValidUTF8(t, "")
}

func describeTask(s *location.Survey, item *location.Item, task *taskxml.Task, path string) {
	if !task.Enabled {
		item.State, item.Mode = autostart.Disabled, "disabled"
	}
	var times []string
	item.Stage = ""
	for _, t := range task.Triggers {
		word := t.Schedule
		if word == "" {
			word = triggerWords[t.Kind]
		}
		if word == "" {
			word = t.Kind
		}
		if t.Interval != "" {
			word += ", again every " + interval(t.Interval)
		}
		if !t.Enabled {
			word += " (off)"
		} else if stage := stageOf[t.Kind]; item.Stage == "" && stage != "" {
			item.Stage = stage
		}
		times = append(times, word)
	}
	if task.Maintenance != "" {
		times = append(times, "in automatic maintenance, every "+interval(task.Maintenance))
	}
	if item.Stage == "" {
		item.Stage = autostart.Schedule
	}
	if item.When = strings.Join(times, "; "); item.When == "" {
		item.When = "only by hand or by a program: it has no trigger"
	}
	item.SystemName = path
	// A task does all of its actions, one after the other.
	var commands []string
	for _, e := range task.Execs {
		commands = append(commands, strings.TrimSpace(e.Command+" "+e.Arguments))
		item.Actions = append(item.Actions, location.Action{Line: strings.TrimSpace(`"` + strings.Trim(e.Command, `"`) +
			`" ` + e.Arguments)})
	}
	for _, h := range task.Handlers {
		commands = append(commands, strings.TrimSpace(h.ClassID+" "+h.Data))
		a := location.Action{Class: true}
		if c := classOf(s, place{}, h.ClassID); c.library != "" {
			a.Line = `"` + c.library + `"`
		}
		item.Actions = append(item.Actions, a)
	}
	for _, other := range task.Others {
		commands = append(commands, other)
		item.Actions = append(item.Actions, location.Action{})
	}
	item.Command = strings.Join(commands, "; ")
	if len(item.Actions) > 0 {
		item.CommandLine = item.Actions[0].Line
	}
	for n := range s.Machine.Users {
		u := &s.Machine.Users[n]
		if strings.EqualFold(task.UserID, u.SID) ||
			strings.EqualFold(task.UserID[strings.LastIndexByte(task.UserID, '\\')+1:], u.Name) {
			if strings.HasPrefix(u.SID, "S-1-5-21-") {
				item.User, item.For = u.Name, u
			}
		}
	}
	item.Facts = func() []location.Fact {
		facts := []location.Fact{{Name: "task", Value: path, Basis: item.Source.Path}}
		for _, f := range []location.Fact{{Name: "triggers", Value: strings.Join(times, "; ")},
			{Name: "author", Value: task.Author},
			{Kind: autostart.FactDescription, Value: task.Description}, {Name: "registered", Value: task.Date},
			{Name: "runs as", Value: task.UserID + task.GroupID}, {Name: "rights", Value: task.RunLevel}} {
			if f.Value != "" && !strings.HasPrefix(f.Value, "$(@") {
				f.Basis = item.Source.Path
				facts = append(facts, f)
			}
		}
		return facts
	}
}

// interval words a duration of ISO 8601, as far as tasks use them.
func interval(d string) string {
	units := map[byte]string{'D': "d", 'H': "h", 'M': "min", 'S': "s"}
	out, number := "", ""
	for k := range len(d) {
		switch c := d[k]; {
		case c >= '0' && c <= '9':
			number += string(c)
		case units[c] != "" && number != "":
			out = strings.TrimSpace(out + " " + number + " " + units[c])
			number = ""
		}
	}
	if out == "" {
		return d
	}
	return out
}

// taskArtifacts lists what decides a task: its definition, and what the
// scheduler keeps of it.
func taskArtifacts(m *machine.Reader, file, path string) []artifact.Artifact {
	list := []artifact.Artifact{artifact.File(file)}
	tree, err := m.Key(taskCache + `\Tree` + path)
	if err != nil {
		return list
	}
	return append(list, cachedArtifacts(m, tree, tree.Text("Id"))...)
}

// cachedArtifacts lists what the scheduler keeps of a task.
func cachedArtifacts(m *machine.Reader, tree *registry.Key, id string) []artifact.Artifact {
	list := []artifact.Artifact{artifact.RegistryTree(tree.Path)}
	if id == "" {
		return list
	}
	list = append(list, artifact.RegistryTree(taskCache+`\Tasks\`+id))
	for _, kind := range []string{"Boot", "Logon", "Plain", "Maintenance"} {
		list = append(list, artifact.RegistryTree(taskCache+`\`+kind+`\`+id))
	}
	return list
}

// removable is the way out where a task cannot be switched.
const removable = "with lockback remove --now, which undo brings back exactly"

// restingTask is a task of a disk: no new state can be made for it, but it can be taken away with all that the
// scheduler keeps of it.
type restingTask struct {
	location.NoSwitch
	artifacts func() []artifact.Artifact
}

// Erases is its definition and its keys in the scheduler's cache.
func (t restingTask) Erases() []artifact.Artifact { return t.artifacts() }

// taskSwitch is the scheduler's own switch, on a running machine: the machine
// hands the changed definition to the scheduler.
type taskSwitch struct{ file string }

func (taskSwitch) Word() autostart.Switch { return autostart.TaskEnabled }

func (t taskSwitch) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	a := artifact.File(t.file)
	image, err := images.Image(a)
	if err != nil {
		return nil, err
	}
	content, err := taskxml.SetEnabled(image.Content, want.State == autostart.Enabled)
	if err != nil {
		return nil, err
	}
	return []location.Edit{{Artifact: a, Image: image.WithContent(content, want.Now)}}, nil
}
