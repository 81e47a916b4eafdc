package cli

import (
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/find"
	"anchorage.example/unicrux/render"
)

func keyFind(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "find [DIR...]",
		Short: "Look for keys in odd places, exposed or unused",
		Long: `Looks through your home, or the folders given, for key files: exposed to others, inside
repositories, without their other half, there twice, or where no setting points. Nothing is
changed. Folders that programs fill by themselves are passed over, and so are files whose
names say that they are something else.`,
		RunE: func(_ *cobra.Command, args []string) error {
			view := render.FindView{Tilde: a.station.Tilde}
			dirs := []string{a.station.Home}
			if len(args) > 0 {
				dirs = nil
			}
			for _, arg := range args {
				if !filepath.IsAbs(arg) {
					arg = filepath.Join(a.station.Folder, arg)
				}
				dirs = append(dirs, filepath.Clean(arg))
			}
			for _, dir := range dirs {
				view.Dirs = append(view.Dirs, a.station.Tilde(dir))
			}
			meter := a.meter()
			var err error
			view.Result, err = find.Find(a.ctx, a.station, dirs, func(files int, folder string) {
				meter.tell(func() string {
					return fmt.Sprintf("Looked at %d files: %s", files,
						a.station.Tilde(folder))
				})
			})
			meter.end()
			if err != nil {
				return err
			}
			return a.show(render.Found(a.style(), view), render.FoundDocument(view.Result))
		},
	}
}
