package planfile

import (
	"context"
	"io/fs"
	"path/filepath"
	"strings"
)

// Below are the plan files below a folder, in the order of their names: those that say a service.
func Below(ctx context.Context, dir string) (files []string, err error) {
	err = Walk(ctx, dir, func(file string) error {
		isPlan, err := IsPlan(file)
		if isPlan {
			files = append(files, file)
		}
		return err
	})
	return files, err
}

// Walk calls with the files below a folder that may be plans, in the order of their names. State folders and hidden
// ones are passed over, and so are links.
func Walk(ctx context.Context, dir string, do func(file string) error) error {
	return filepath.WalkDir(dir, func(file string, e fs.DirEntry, err error) error {
		switch ext := filepath.Ext(file); {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			return err
		case e.IsDir() && file != dir && (strings.HasPrefix(e.Name(), ".") || strings.HasSuffix(e.Name(), ".vaiven")):
			return fs.SkipDir
		case !e.Type().IsRegular() || ext != ".yaml" && ext != ".yml":
			return nil
		}
		return do(file)
	})
}
