package command

import (
	"context"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/files"
)

func askEffective(ctx context.Context, c *cli.Command, devices []string) ([]files.SubjectAnswer, error) {
	return nil, usage("effective: --estate FOLDER is needed")
}

func askExplain(ctx context.Context, c *cli.Command, device string) (files.SubjectAnswer, error) {
	return files.SubjectAnswer{}, usage("explain: --estate FOLDER is needed")
}

func askConflicts(ctx context.Context, c *cli.Command) ([]conflictAnswer, error) {
	return nil, usage("conflicts: --estate FOLDER is needed")
}
