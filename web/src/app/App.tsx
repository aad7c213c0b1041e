import { Route, Switch } from "wouter";
import { DeliveriesPage } from "~/deliveries/DeliveriesPage";
import { ProjectsPage } from "~/projects/ProjectsPage";
import { ShelfPage } from "~/shelf/ShelfPage";
import { Asker } from "~/ui/Ask";
import { Notices } from "~/ui/Notices";
import { Workspace } from "~/workspace/Workspace";

export function App() {
  return (
    <>
      <Switch>
        <Route path="/shots/:shotId">{({ shotId }) => <Workspace key={shotId} shotId={shotId} />}</Route>
        <Route path="/shelf" component={ShelfPage} />
        <Route path="/deliveries" component={DeliveriesPage} />
        <Route component={ProjectsPage} />
      </Switch>
      <Asker />
      <Notices />
    </>
  );
}
