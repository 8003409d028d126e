import { Link, useRoute } from '../../ui/route';
import { text } from '../../ui/text';

/** The three views of the plan. */
export function PlanTabs() {
  const { path } = useRoute();
  return (
    <nav aria-label={text.plan.label} className="flex gap-1.5">
      {(['suggestions', 'review', 'guards'] as const).map((tab) => (
        <Link
          key={tab}
          to={`/${tab}`}
          className={`button ${path === `/${tab}` ? 'border-ink' : 'text-ink-2'}`}
          aria-current={path === `/${tab}` ? 'page' : undefined}
        >
          {text.plan.tabs[tab]}
        </Link>
      ))}
    </nav>
  );
}
