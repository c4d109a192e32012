import { price } from '../../domain/prices'
import { decimal } from '../../domain/units'

const [WIDTH, HEIGHT, LEFT, BOTTOM] = [420, 78, 2, 16]

/** The unit price by quantity, as steps. */
export function Steps({ tiers, unit }: { tiers: { from_quantity: string; unit_price: string }[]; unit: string }) {
  const steps = tiers.map((tier) => ({ from: Number(tier.from_quantity), price: Number(tier.unit_price) }))
  const last = steps.at(-1)?.from ?? 0
  const most = last === 0 ? 10 : last * 1.5
  const highest = Math.max(...steps.map((each) => each.price), 0.01)
  const x = (quantity: number) => LEFT + (quantity / most) * (WIDTH - LEFT - 6)
  const y = (amount: number) => HEIGHT - BOTTOM - (amount / highest) * (HEIGHT - BOTTOM - 14)
  const path = steps
    .map((each, place) => {
      const end = steps[place + 1]?.from ?? most
      return `${place === 0 ? 'M' : 'L'}${x(each.from)} ${y(each.price)}H${x(end)}`
    })
    .join('')
  return (
    <svg
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      width="100%"
      role="img"
      aria-label={`Unit price by quantity: ${tiers
        .map((tier) => `${price(tier.unit_price)} from ${decimal(tier.from_quantity, 0)} ${unit}`)
        .join(', ')}`}
      className="steps"
    >
      <line x1={LEFT} x2={WIDTH} y1={HEIGHT - BOTTOM} y2={HEIGHT - BOTTOM} className="axis" />
      <path d={path} className="step" />
      {steps.map((each) => (
        <g key={each.from}>
          <text x={x(each.from) + 3} y={y(each.price) - 4}>
            {price(String(each.price))}
          </text>
          <text x={x(each.from)} y={HEIGHT - 3} className="quiet">
            {decimal(String(each.from), 0)}
          </text>
        </g>
      ))}
    </svg>
  )
}
